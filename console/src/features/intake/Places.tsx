import { PlacesOf } from "../../ui/places";

const PLACES = [
  ["/intake", "Arrivals"],
  ["/intake/keys", "Keys"],
  ["/intake/transforms", "Transforms"],
  ["/intake/dials", "Dials"],
  ["/intake/fields", "Fields and ties"],
] as const;

/** The pages of Intake. */
export function Places() {
  return <PlacesOf name="Intake" places={PLACES} />;
}
