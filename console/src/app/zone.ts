import { useSearchParams } from "react-router";
import type { Zone } from "../api/time";

/** The zone times are shown in: part of the address. */
export function useZone(): { zone: Zone; toggle: () => void } {
  const [params, setParams] = useSearchParams();
  const zone: Zone = params.get("zone") === "local" ? "local" : "utc";
  const toggle = () =>
    setParams(
      (p) => {
        if (zone === "utc") p.set("zone", "local");
        else p.delete("zone");
        return p;
      },
      { replace: true },
    );
  return { zone, toggle };
}
