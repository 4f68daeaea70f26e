import { useRef, useState } from "react";
import { space } from "../../app/tokens";
import { Button, Choice, Field, Muted, Problem, Quiet } from "../../ui/controls";
import { Asks } from "../../ui/popover";
import { BOUND, fetchEvents, handOver } from "./download";
import { columnsOf, type SearchState } from "./state";
import { number } from "../../ui/number";

const COLUMNS = ["time", "severity", "service", "host", "message", "trace"];

/** Everything found, as a file. */
export function Download({
  state,
  range,
  total,
}: {
  state: SearchState;
  range: { from: string; to: string };
  total?: number;
}) {
  const [open, setOpen] = useState(false);
  const [form, setForm] = useState<"ndjson" | "csv">("ndjson");
  const [columns, setColumns] = useState("");
  const [done, setDone] = useState<number>();
  const [reported, setReported] = useState("");
  const [wrong, setWrong] = useState("");
  const stop = useRef<AbortController>(undefined);
  const chosen = columns || [...COLUMNS, ...columnsOf(state.columns).map((c) => c.field)].join(",");
  const begin = async () => {
    const mine = new AbortController();
    stop.current = mine;
    setReported("");
    setWrong("");
    setDone(0);
    try {
      const names = chosen.split(",").map((c) => c.trim());
      const wanted = { query: state.query, ...range, form, columns: names.filter(Boolean) };
      const got = await fetchEvents(wanted, setDone, mine.signal);
      handOver(got.blob, `calvex-${range.from.slice(0, 19).replaceAll(":", "")}.${form}`);
      setReported(
        `${number(got.events)} events written` +
          (got.more ? `; there are more: the bound is ${number(BOUND)}, and \`calvex export\` has none` : "."),
      );
    } catch (e) {
      if (mine.signal.aborted) setReported("Stopped; nothing was written.");
      else setWrong(e instanceof Error ? e.message : String(e));
    } finally {
      setDone(undefined);
    }
  };
  const close = () => {
    stop.current?.abort();
    setOpen(false);
    setReported("");
    setWrong("");
  };
  return (
    <>
      <Quiet onPress={() => setOpen(true)}>download</Quiet>
      <Asks open={open} title="Download what was found" onClose={close}>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            void begin();
          }}
        >
          <Muted>
            {total !== undefined && `${number(total)} events, the oldest first. `}
            {total !== undefined &&
              total > BOUND &&
              `Only the first ${number(BOUND)} fit a download here; calvex export writes all.`}
          </Muted>
          <Choice
            label="As"
            value={form}
            options={[
              ["ndjson", "NDJSON, every field"],
              ["csv", "CSV, the columns below"],
            ]}
            onChange={(value) => setForm(value === "csv" ? "csv" : "ndjson")}
          />
          {form === "csv" && <Field label="Columns" name="columns" value={chosen} onChange={setColumns} mono />}
          {form === "csv" && (
            <Muted>A cell that a table program would run as a formula begins with an apostrophe in the file.</Muted>
          )}
          {done !== undefined && (
            <p role="status">
              <progress max={Math.min(total ?? BOUND, BOUND)} value={done} /> {number(done)} events
            </p>
          )}
          {reported && <p role="status">{reported}</p>}
          {wrong && <Problem>{wrong}</Problem>}
          <div style={{ display: "flex", gap: space.s }}>
            {done === undefined ? (
              <Button type="submit" $chief>
                Download
              </Button>
            ) : (
              <Button onPress={() => stop.current?.abort()}>Stop</Button>
            )}
            <Button onPress={close}>Close</Button>
          </div>
        </form>
      </Asks>
    </>
  );
}
