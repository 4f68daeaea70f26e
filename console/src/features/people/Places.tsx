import { useMe } from "../../app/session";
import { PlacesOf } from "../../ui/places";

/** The pages of People, those that the one signed in may see. */
export function Places() {
  const me = useMe();
  const places = [
    ["/people", "You"],
    ["/people/grants", "Grants"],
    ...(me?.role === "admin"
      ? ([
          ["/people/all", "Everybody"],
          ["/people/teams", "Teams"],
        ] as const)
      : []),
    ...(me && me.role !== "reader" ? ([["/people/trail", "Audit trail"]] as const) : []),
  ] as const;
  return <PlacesOf name="People" places={places} />;
}
