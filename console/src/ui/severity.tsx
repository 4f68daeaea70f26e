import { useTheme } from "styled-components";
import type { Severity } from "../api/types";

/** Each severity has a shape of its own, so that colour is never alone. */
export function Glyph({ severity, size = 10 }: { severity: Severity; size?: number }) {
  const colour = useTheme().severity[severity];
  const shape = {
    trace: <circle cx="5" cy="5" r="2" fill="none" stroke={colour} strokeWidth="1.2" />,
    debug: <circle cx="5" cy="5" r="3" fill="none" stroke={colour} strokeWidth="1.2" />,
    info: <circle cx="5" cy="5" r="3" fill={colour} />,
    warn: <path d="M5 0.8 9.6 9H0.4Z" fill={colour} />,
    error: <rect x="1" y="1" width="8" height="8" fill={colour} />,
    fatal: <path d="M5 0 10 5 5 10 0 5Z" fill={colour} />,
  }[severity];
  return (
    <svg width={size} height={size} viewBox="0 0 10 10" role="img" aria-label={severity}>
      {shape}
    </svg>
  );
}
