/** Transform rules as they are typed, free of any drawing. */
import type { TransformAct } from "../../api/types";

const DETECTORS = ["tokens", "passwords", "cards", "mail"] as const;
const isDetector = (word: string): word is (typeof DETECTORS)[number] =>
  (DETECTORS as readonly string[]).includes(word);

/** What a rule can do, by name. */
export const ACTS = [
  ["cut", "cut the message by a pattern"],
  ["stamp", "set a field"],
  ["rename", "rename a field"],
  ["drop", "drop fields"],
  ["mask", "mask what an expression finds"],
  ["detect", "mask what detectors find"],
  ["move", "move to a lane"],
  ["set-aside", "set aside"],
] as const;

/** What is typed for it, by example. */
export const HINTS: Record<string, string> = {
  cut: "{time} {severity} {word logger}: {rest message}",
  stamp: "region=north",
  rename: "txt message",
  drop: "user.token, headers",
  mask: "LS-(\\d+)",
  detect: "tokens, passwords, cards, mail",
  move: "audit",
};

/** What is done, from what was typed for it. */
export function actOf(kind: string, text: string): TransformAct {
  const words = text.split(/[\s,]+/).filter(Boolean);
  switch (kind) {
    case "cut":
      return { cut: { field: "message", patterns: [text] } };
    case "stamp": {
      const at = text.indexOf("=");
      return { stamp: { [text.slice(0, Math.max(at, 0)).trim()]: text.slice(at + 1).trim() } };
    }
    case "rename":
      return { rename: { from: words[0] ?? "", to: words[1] ?? "" } };
    case "drop":
      return { drop: words };
    case "mask":
      return { mask: { expressions: [text] } };
    case "detect":
      return { mask: { detectors: words.filter(isDetector), hash: true } };
    case "move":
      return { move: text.trim() };
    default:
      return "set-aside";
  }
}
