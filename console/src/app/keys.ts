import { useEffect, useRef } from "react";

/** Calls what a single key stands for, while nothing is typed into. */
export function useKeys(keys: Record<string, () => void>) {
  const latest = useRef(keys);
  useEffect(() => {
    latest.current = keys;
  });
  useEffect(() => {
    const listen = (e: KeyboardEvent) => {
      const target = e.target as HTMLElement;
      const typing = target.closest("input, textarea, select, [contenteditable]");
      if (typing || e.ctrlKey || e.metaKey || e.altKey) return;
      // On a control, Enter belongs to the control.
      if (e.key === "Enter" && target.closest("button, a, [role=slider]")) return;
      const act = latest.current[e.key];
      if (act) {
        e.preventDefault();
        act();
      }
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, []);
}
