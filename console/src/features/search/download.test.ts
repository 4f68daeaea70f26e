import { afterEach, describe, expect, it, vi } from "vitest";
import { api } from "../../api/client";
import type { SearchAnswer } from "../../api/types";
import { BOUND, fetchEvents, type Wanted } from "./download";

const wanted: Wanted = { query: "door", from: "now-1h", to: "now", form: "ndjson", columns: ["service", "slot.bank"] };
const event = (n: number) => ({
  id: `1-1-1-${n}`,
  service: "slots",
  message: `door ${n}`,
  fields: { slot: { bank: `BK-${n}, left` } },
});

/** Answers with so many events in pages, and notes what was asked. */
function answering(total: number, explain = {}) {
  const asked: { from: string; to: string; cursor?: string; limit?: number }[] = [];
  vi.spyOn(api, "search").mockImplementation((ask) => {
    asked.push(ask as (typeof asked)[number]);
    const from = Number(ask.cursor ?? 0);
    const count = Math.min(ask.limit ?? 100, total - from);
    return Promise.resolve({
      events: Array.from({ length: count }, (_, n) => event(from + n)),
      cursor: from + count < total ? String(from + count) : null,
      range: { from: "2026-10-04T01:00:00Z", to: "2026-10-04T02:00:00Z" },
      explain: { left_out: [], stopped: null, ...explain },
    } as unknown as SearchAnswer);
  });
  return asked;
}

afterEach(() => vi.restoreAllMocks());
const signal = new AbortController().signal;

describe("a download", () => {
  it("goes page by page over a range that does not move, and says how far it is", async () => {
    const asked = answering(2500);
    const reported: number[] = [];
    const { blob, events, more } = await fetchEvents(wanted, (n) => reported.push(n), signal);
    expect([events, more]).toEqual([2500, false]);
    expect(reported).toEqual([1000, 2000, 2500]);
    expect(asked.map((a) => a.from)).toEqual(["now-1h", "2026-10-04T01:00:00Z", "2026-10-04T01:00:00Z"]);
    const lines = (await blob.text()).trimEnd().split("\n");
    expect(lines.length).toBe(2500);
    expect((JSON.parse(lines[2499]!) as { id: string }).id).toBe("1-1-1-2499");
  });

  it("writes CSV with its columns", async () => {
    answering(2);
    const { blob } = await fetchEvents({ ...wanted, form: "csv" }, () => {}, signal);
    expect(await blob.text()).toBe('service,slot.bank\r\nslots,"BK-0, left"\r\nslots,"BK-1, left"\r\n');
  });

  it("ends at its bound and says that there is more", async () => {
    answering(BOUND + 10);
    const { events, more } = await fetchEvents(wanted, () => {}, signal);
    expect([events, more]).toEqual([BOUND, true]);
  });

  it("fails where not all could be read, rather than write a part", async () => {
    answering(5, { left_out: ["chunk 7 is damaged"] });
    await expect(fetchEvents(wanted, () => {}, signal)).rejects.toThrow("chunk 7 is damaged");
  });
});
