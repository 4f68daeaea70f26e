import { useEffect, useRef } from "react";

const KEPT = "calvex.keys";

/** Whether single keys do something; some people need them not to (WCAG 2.1.4). */
export function keysOn(): boolean {
  try {
    return localStorage.getItem(KEPT) !== "off";
  } catch {
    return true;
  }
}

/** Turns single keys on or off, in this browser. */
export function turnKeys(on: boolean) {
  try {
    if (on) localStorage.removeItem(KEPT);
    else localStorage.setItem(KEPT, "off");
  } catch {
    // Without storage they stay as they are.
  }
}

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
      if (typing || e.ctrlKey || e.metaKey || e.altKey || target.closest("[role=dialog], [role=menu]")) return;
      // The keys of every control stay; so does the list of keys, by which they are turned on again.
      if (!keysOn() && !["Enter", "Escape", "?"].includes(e.key)) return;
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
