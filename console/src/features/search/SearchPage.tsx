import { Unseen } from "../../ui/page";
import { useAsked } from "./asked";
import { Events } from "./Events";
import { Measured } from "./Measured";
import { useSearchState } from "./state";

/** Search: figures where the query has a `measure`, else events. */
export default function SearchPage() {
  const [state, change] = useSearchState();
  const asked = useAsked(state.query);
  // Only a text with the word can have the clause; whether it is one, the parser shows.
  if (!asked && state.query.includes("measure")) return null;
  return (
    <>
      <Unseen>Search</Unseen>
      {asked?.measure ? (
        <Measured state={state} change={change} asked={asked} />
      ) : (
        <Events state={state} change={change} asked={asked} />
      )}
    </>
  );
}
