import { useQuery, useQueryClient } from "@tanstack/react-query";
import { createContext, useContext, type ReactNode } from "react";
import { api, ProblemError } from "../api/client";
import type { Me } from "../api/types";
import { SignIn } from "../features/signin/SignIn";
import { Problem } from "../ui/controls";

const Context = createContext<Me | null>(null);

/** Who is signed in. */
export const useMe = () => useContext(Context);

/** Whether the one signed in may make alert rules. */
export function useMakesRules(): boolean {
  const me = useMe();
  return me !== undefined && me !== null && me.changes && (me.role === "admin" || me.configures.length > 0);
}

/** Shows what is inside to those who are signed in, and the way in to others. */
export function SignedIn({ children }: { children: ReactNode }) {
  const queries = useQueryClient();
  // Nodes come and go, and with them where one could go on.
  const me = useQuery({
    queryKey: ["me"],
    queryFn: api.me,
    retry: false,
    staleTime: Infinity,
    refetchInterval: 60_000,
  });
  if (me.data) return <Context value={me.data}>{children}</Context>;
  if (me.isPending) return null;
  if (me.error instanceof ProblemError && me.error.status !== 401) return <Problem>{me.error.message}</Problem>;
  return <SignIn onSignedIn={(who) => queries.setQueryData(["me"], who)} />;
}
