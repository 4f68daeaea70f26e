import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Palette } from "../../app/tokens";
import { api } from "../../api/client";
import type { HistogramAnswer, MeasureAnswer } from "../../api/types";
import { followed, type Asked } from "./asked";

/** One stretch of the spine. */
export interface Bin {
  start: bigint;
  end: bigint;
  /** From the quiet end; drawn beside one another. */
  parts: { name: string; colour: string; count: number }[];
  /** Drawn on a scale of their own. */
  errors: number;
  warnings: number;
  total: number;
}

/** Values a spine is stacked by at most; the rest is one. */
const STACKED = 6;

export interface Counts {
  from_ns: string;
  step_ns: number;
  buckets: number[][];
}

/** Bins by severity. */
export function severityBins(counts: Counts, theme: Palette): Bin[] {
  return counts.buckets.map((bucket, i) => {
    const start = BigInt(counts.from_ns) + BigInt(i) * BigInt(counts.step_ns);
    const [trace = 0, debug = 0, info = 0, warn = 0, error = 0, fatal = 0] = bucket;
    return {
      start,
      end: start + BigInt(counts.step_ns),
      parts: [
        { name: "debug and trace", colour: theme.quietBar, count: trace + debug },
        { name: "info", colour: theme.calmBar, count: info },
        { name: "warn", colour: theme.severity.warn, count: warn },
      ],
      errors: error + fatal,
      warnings: warn,
      total: bucket.reduce((a, b) => a + b, 0),
    };
  });
}

/** The values a spine is stacked by, with their colours; the last is the rest. */
export function stackNames(stacked: MeasureAnswer, theme: Palette): { name: string; colour: string }[] {
  const named = stacked.groups.slice(0, STACKED).map((group, n) => {
    const value = group.values[0];
    const text = value === null || value === undefined ? "(missing)" : String(value);
    return { name: stacked.shapes?.[text] ?? text, colour: theme.stack[n] ?? theme.calmBar };
  });
  return stacked.group_count > STACKED ? [...named, { name: "others", colour: theme.quietBar }] : named;
}

/** Bins by the values of a field: the same stretches, the same errors, other parts. */
export function stackedBins(bins: Bin[], stacked: MeasureAnswer, theme: Palette): Bin[] {
  const names = stackNames(stacked, theme);
  // Both begin at whole steps of the same length.
  return bins.map((bin, n) => {
    const counts = stacked.groups.slice(0, STACKED).map((g) => Number(g.steps?.[n]?.[0] ?? 0));
    const rest = Math.max(bin.total - bin.errors - counts.reduce((a, b) => a + b, 0), 0);
    return { ...bin, parts: names.map((name, i) => ({ ...name, count: i < counts.length ? (counts[i] ?? 0) : rest })) };
  });
}

interface Ask {
  query: string;
  from: string;
  to: string;
}

/** The counts of the spine, as far as they are known while they are worked out. */
export function useCounts(ask: Ask, buckets: number, followMs: number | false) {
  const [soFar, setSoFar] = useState<{ ask: Ask; counts?: Counts; done: number; total: number }>();
  const query = useQuery({
    queryKey: ["histogram", ask, buckets],
    queryFn: ({ signal }) =>
      api.histogramTold(
        { ...ask, buckets },
        {
          progress: (done, total) => setSoFar((s) => ({ ...(s?.ask === ask ? s : undefined), ask, done, total })),
          counts: (counts) => setSoFar((s) => ({ done: 0, total: 0, ...s, ask, counts })),
        },
        signal,
      ),
    placeholderData: keepPreviousData,
    refetchInterval: followMs,
  });
  const fresh = query.isFetching && soFar && same(soFar.ask, ask) ? soFar : undefined;
  const counts: Counts | HistogramAnswer | undefined =
    query.isPlaceholderData || !query.data ? (fresh?.counts ?? query.data) : query.data;
  return { query, counts, progress: fresh && fresh.done < fresh.total ? fresh : undefined };
}

const same = (a: Ask, b: Ask) => a.query === b.query && a.from === b.from && a.to === b.to;

/** The counts of the values of a field, in the spine's own steps. */
export function useStack(
  by: string,
  asked: Asked | undefined,
  counts: HistogramAnswer | undefined,
): { stacked: MeasureAnswer | undefined; error: Error | null } {
  const stack = useQuery({
    queryKey: ["stack", by, asked?.filter, counts?.range, counts?.step_ns],
    enabled: by !== "" && asked !== undefined && counts !== undefined,
    queryFn: ({ signal }) => {
      const step = `${Math.max(1, Math.round((counts?.step_ns ?? 0) / 1e6))}ms`;
      const calm = asked ? followed(asked, "severity<error") : "severity<error";
      return api.measure(
        {
          query: `${calm} measure count per ${by} every ${step} top ${STACKED + 1}`,
          from: counts?.range.from,
          to: counts?.range.to,
        },
        signal,
      );
    },
    placeholderData: keepPreviousData,
  });
  return { stacked: by ? stack.data : undefined, error: stack.error };
}
