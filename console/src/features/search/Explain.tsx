import type { Explanation } from "../../api/types";
import { Muted } from "../../ui/controls";
import { Opens } from "../../ui/popover";
import { number } from "../../ui/number";
import { useMe } from "../../app/session";
import { partOf } from "../people/model";

/** How an answer came about: what was read, what was skipped, how long it took. */
export function Explain({ explain, range }: { explain: Explanation; range: { from: string; to: string } }) {
  const parts = useMe()?.parts ?? [];
  const took = `${(explain.took_us / 1000).toFixed(1)} ms`;
  const losses = [...explain.left_out, ...(explain.stopped ? [explain.stopped] : [])].map((loss) => (
    <p key={loss}>
      <Muted>not read: {loss}</Muted>
    </p>
  ));
  // What was read is of other events too, so whoever reads a part is shown which part instead.
  if (parts.length > 0) {
    return (
      <Opens name={`you read a part, ${took}`} label="What you may read">
        {() => (
          <>
            <h2>Of these lanes you read a part</h2>
            <dl data-testid="parts">
              {parts.map((part) => (
                <div key={part.lane} style={{ display: "contents" }}>
                  <dt>{part.lane}</dt>
                  <dd>{partOf(part)}</dd>
                </div>
              ))}
            </dl>
            {losses}
          </>
        )}
      </Opens>
    );
  }
  const skipped = explain.skipped_by_time + explain.skipped_by_bloom + explain.skipped_by_order;
  const rows: [string, string][] = [
    ["chunks that may be read", number(explain.chunks)],
    ["skipped: their times lie outside", number(explain.skipped_by_time)],
    ["skipped: their blooms rule the query out", number(explain.skipped_by_bloom)],
    ["of these by bloom sets, unopened", number(explain.skipped_by_bloom_set)],
    ["not needed: enough was found before", number(explain.skipped_by_order)],
    ["opened", number(explain.chunks_read)],
    ["pages scanned", number(explain.pages_scanned)],
    ["pages skipped", number(explain.pages_skipped)],
    ["rows looked at", number(explain.rows_looked_at)],
    ["of them not yet in chunks", number(explain.head_rows)],
    ["segments read", number(explain.segments_read)],
    ["fetched from the database", `${number(Math.ceil(explain.fetched_bytes / 1024))} KiB`],
    ["took", took],
  ];
  return (
    <Opens name={`explain: ${skipped} of ${explain.chunks} chunks skipped, ${took}`} label="How the answer came about">
      {() => (
        <>
          <h2>
            {range.from} to {range.to}
          </h2>
          <dl data-testid="explain">
            {rows.map(([what, value]) => (
              <div key={what} style={{ display: "contents" }}>
                <dt>{what}</dt>
                <dd>{value}</dd>
              </div>
            ))}
          </dl>
          {losses}
        </>
      )}
    </Opens>
  );
}
