import { Link } from "react-router";
import { useMe } from "../../app/session";

const PLACES = [
  ["Alerts", "/alerts", false],
  ["Rules", "/rules", false],
  ["Contacts", "/contacts", true],
  ["Make a rule", "/rules/new", true],
] as const;

/** The places around alerts, but for the one that shows this; some are for administrators alone. */
export function Around({ here }: { here: string }) {
  const me = useMe();
  const shown = PLACES.filter(([, path, forAdmin]) => path !== here && (!forAdmin || me?.role === "admin"));
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
