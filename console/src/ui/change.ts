import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

/** Something that is changed: what went wrong the last time, and how to do it, after which `keys` are read anew. */
export function useChange(...keys: string[]): [string | undefined, (act: () => Promise<unknown>) => Promise<void>] {
  const queries = useQueryClient();
  const [problem, setProblem] = useState<string>();
  const change = async (act: () => Promise<unknown>) => {
    setProblem(undefined);
    try {
      await act();
    } catch (e) {
      setProblem((e as Error).message);
    }
    for (const key of keys) await queries.invalidateQueries({ queryKey: [key] });
  };
  return [problem, change];
}
