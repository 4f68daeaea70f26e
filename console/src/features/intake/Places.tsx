import { useMe } from "../../app/session";
import { PlacesOf } from "../../ui/places";

const PLACES = [
  ["/intake", "Arrivals"],
  ["/intake/keys", "Keys"],
  ["/intake/transforms", "Transforms"],
  ["/intake/dials", "Dials"],
  ["/intake/fields", "Fields and ties"],
] as const;

/** The pages of Intake, those that the one signed in may see. */
export function Places() {
  const places = useMe()?.role === "admin" ? [...PLACES, ["/intake/nodes", "Nodes"] as const] : PLACES;
  return <PlacesOf name="Intake" places={places} />;
}
