import { useQuery } from "@tanstack/react-query";
import { api } from "../../api/client";
import { Events } from "./Events";
import { Measured } from "./Measured";
import { useSearchState } from "./state";

/** Search: figures where the query has a `measure`, else events. */
export default function SearchPage() {
  const [state, change] = useSearchState();
  // Only a text with the word can have the clause; whether it is one, the service's own parser shows.
  const worded = /\bmeasure\b/.test(state.query);
  const check = useQuery({
    queryKey: ["check", state.query],
    enabled: worded,
    queryFn: ({ signal }) => api.check(state.query, signal),
  });
  if (worded && check.isPending) return null;
  const clause = worded ? check.data?.syntax.parts?.find((part) => part.kind === "measure") : undefined;
  return clause ? <Measured state={state} change={change} clause={clause} /> : <Events state={state} change={change} />;
}
