import { useEffect, useRef, useState } from "react";
import { ProblemError, stream } from "../../api/client";
import type { LogEvent } from "../../api/types";

/** Events held at most; the oldest go. */
const HELD = 1000;
/** Seconds of the rate. */
export const SECONDS = 60;
/** How often what came is shown: once for all that came meanwhile. */
const SHOW_MS = 200;

export interface Rate {
  calm: number;
  bad: number;
}

export interface Following {
  /** Newest first. */
  events: LogEvent[];
  /** Came while it was paused. */
  waiting: number;
  missed: number;
  /** That rights have changed, where they have. */
  note: string;
  /** By second, the latest last. */
  rates: Rate[];
  error: Error | null;
  /** Whether the service is being listened to. */
  live: boolean;
}

type Line = {
  ready?: unknown;
  events?: { events: LogEvent[] };
  missed?: { at_least: number };
  rights?: { note: string };
  beat?: unknown;
};

const noRates = () => Array.from({ length: SECONDS }, () => ({ calm: 0, bad: 0 }));
const NOTHING: Following = { events: [], waiting: 0, missed: 0, note: "", rates: noRates(), error: null, live: false };

/** Follows what passes a query. While paused, what comes is held back and counted. */
export function useFollow(query: string, paused: boolean): Following {
  const [shown, setShown] = useState(NOTHING);
  const held = useRef<LogEvent[]>([]);
  const hold = useRef(paused);
  useEffect(() => {
    hold.current = paused;
  }, [paused]);
  useEffect(() => {
    const stop = new AbortController();
    held.current = [];
    let second: Rate = { calm: 0, bad: 0 };
    let missed = 0;
    setShown(NOTHING);
    const take = (line: Line) => {
      if (line.ready) setShown((s) => ({ ...s, live: true, error: null }));
      missed += line.missed?.at_least ?? 0;
      const note = line.rights?.note;
      if (note) setShown((s) => ({ ...s, note }));
      for (const event of line.events?.events ?? []) {
        if (event.severity === "error" || event.severity === "fatal") second.bad += 1;
        else second.calm += 1;
        held.current.push(event);
      }
      if (held.current.length > HELD) held.current.splice(0, held.current.length - HELD);
    };
    const failed = (e: unknown) => {
      if (!stop.signal.aborted) setShown((s) => ({ ...s, live: false, error: e as Error }));
    };
    const listen = () =>
      stream("/tail", { query }, take, stop.signal).then(
        () => failed(new ProblemError(0, "The service ended the stream.")),
        failed,
      );
    void listen();
    const show = setInterval(() => {
      const unseen = missed;
      missed = 0;
      if (hold.current) {
        const waiting = held.current.length;
        setShown((s) => ({ ...s, waiting, missed: s.missed + unseen }));
        return;
      }
      const came = held.current.splice(0).reverse();
      if (came.length === 0 && unseen === 0) return;
      setShown((s) => ({
        ...s,
        events: [...came, ...s.events].slice(0, HELD),
        waiting: 0,
        missed: s.missed + unseen,
      }));
    }, SHOW_MS);
    const turn = setInterval(() => {
      const done = second;
      second = { calm: 0, bad: 0 };
      setShown((s) => ({ ...s, rates: [...s.rates.slice(1), done] }));
    }, 1000);
    return () => {
      stop.abort();
      clearInterval(show);
      clearInterval(turn);
    };
  }, [query]);
  return shown;
}
