import { Link } from "react-router";
import { useMakesRules, useMe } from "../../app/session";

const PLACES = [
  ["Alerts", "/alerts"],
  ["Rules", "/rules"],
  ["Contacts", "/contacts"],
  ["Make a rule", "/rules/new"],
] as const;

/** The places around alerts, but for the one that shows this, and those where one may do nothing. */
export function Around({ here }: { here: string }) {
  const me = useMe();
  const makes = useMakesRules();
  const left: Record<string, boolean> = {
    "/contacts": me?.role === "admin" || (me?.teams.length ?? 0) > 0,
    "/rules/new": makes,
  };
  const shown = PLACES.filter(([, path]) => path !== here && left[path] !== false);
  return (
    <p>
      {shown.map(([name, path], n) => (
        <span key={path}>
          {n > 0 && " · "}
          <Link to={path}>{name}</Link>
        </span>
      ))}
    </p>
  );
}
