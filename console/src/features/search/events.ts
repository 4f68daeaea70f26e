import { useInfiniteQuery } from "@tanstack/react-query";
import { useCallback, useMemo, useState } from "react";
import { api } from "../../api/client";
import type { LogEvent, SearchAnswer } from "../../api/types";
import type { Asked } from "./asked";
import type { SearchState } from "./state";

/** Events of one answer: the first is small, so that it is there sooner. */
const FIRST = 100;
const NEXT = 300;

interface SoFar {
  key: string;
  events: LogEvent[];
  done: number;
  total: number;
}

/**
 * The events of a search, page by page, the first as they are found. It asks for the range as the histogram understood
 * it, so that "now" is one moment for both; `seek` moves its beginning within.
 */
export function useEvents(
  state: SearchState,
  asked: Asked | undefined,
  range: { from: string; to: string } | undefined,
) {
  const sought = state.seek && range ? (state.order === "newest" ? { to: state.seek } : { from: state.seek }) : {};
  const filter = asked?.filter ?? "";
  const key = `${filter} ${range?.from} ${range?.to} ${state.order} ${state.seek}`;
  const [soFar, setSoFar] = useState<SoFar>();
  const list = useInfiniteQuery({
    queryKey: ["search", key],
    enabled: range !== undefined && asked !== undefined,
    initialPageParam: undefined as string | undefined,
    queryFn: ({ pageParam, signal }): Promise<SearchAnswer> => {
      const ask = { query: filter, ...range, ...sought, order: state.order };
      if (pageParam) return api.search({ ...ask, limit: NEXT, cursor: pageParam }, signal);
      const of = (s: SoFar | undefined) => (s?.key === key ? s : { key, events: [], done: 0, total: 0 });
      setSoFar(of(undefined));
      return api.searchTold(
        { ...ask, limit: FIRST },
        {
          events: (found) => setSoFar((s) => ({ ...of(s), events: [...of(s).events, ...found] })),
          progress: (done, total) => setSoFar((s) => ({ ...of(s), done, total })),
        },
        signal,
      );
    },
    getNextPageParam: (last) => last.cursor ?? undefined,
    // What is shown stays as it was shown; what came since is asked for.
    staleTime: Infinity,
  });
  const held = soFar?.key === key ? soFar : undefined;
  const events = useMemo(
    () => list.data?.pages.flatMap((p) => p.events) ?? held?.events ?? [],
    [list.data, held?.events],
  );
  const fetchMore = list.fetchNextPage;
  const onMore = useCallback(() => void fetchMore(), [fetchMore]);
  return { list, key, events, answer: list.data?.pages[0], onMore, progress: list.data ? undefined : held };
}
