import { useSyncExternalStore } from "react";

const NARROW = window.matchMedia("(max-width: 600px)");

const subscribe = (changed: () => void) => {
  NARROW.addEventListener("change", changed);
  return () => NARROW.removeEventListener("change", changed);
};

/** Whether the window is as narrow as a phone. */
export const useCompact = () => useSyncExternalStore(subscribe, () => NARROW.matches);
