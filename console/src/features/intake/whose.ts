import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api } from "../../api/client";
import { useMe } from "../../app/session";

/** Whose settings are shown and put: those of the service, for administrators, or those of a team. */
export function useWhose() {
  const me = useMe();
  const isAdmin = me?.role === "admin";
  const teams = useQuery({ queryKey: ["teams"], queryFn: ({ signal }) => api.teams(signal), enabled: isAdmin });
  const names = isAdmin ? (teams.data?.map((team) => team.name) ?? []) : (me?.teams ?? []);
  const options = [...(isAdmin ? [["", "every sender"] as const] : []), ...names.map((name) => [name, name] as const)];
  const [chosen, setChosen] = useState<string>();
  const whose = chosen ?? options[0]?.[0] ?? "";
  /** Not given for the service. */
  const team = whose === "" ? undefined : whose;
  return { options, whose, team, choose: setChosen, maySet: isAdmin || team !== undefined };
}
