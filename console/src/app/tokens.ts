/** Every colour, size and face of the console. Two themes of one set; contrast is at least WCAG AA against `ground`. */
export type ThemeName = "night" | "day";

const night = {
  ground: "#101414",
  raised: "#171c1c",
  chosen: "#1f2827",
  line: "#2b3433",
  text: "#e8e6dd",
  muted: "#9aa5a1",
  faint: "#7d8985",
  accent: "#86d9b9",
  onAccent: "#0d1f18",
  varying: "#dcc98a",
  number: "#bda7f0",
  mark: "#c4a6f2",
  severity: {
    trace: "#6f7c79",
    debug: "#6f7c79",
    info: "#86a7d6",
    warn: "#f0b849",
    error: "#ff7166",
    fatal: "#ff9a8f",
  },
  calmBar: "#3e5169",
  quietBar: "#2c3735",
  stack: ["#5d8fc2", "#9a83d6", "#4fa08a", "#bb914d", "#b56f98", "#83965f"],
};

export type Palette = typeof night;

const day: Palette = {
  ground: "#f7f6f1",
  raised: "#efede5",
  chosen: "#e1e8e2",
  line: "#cfccc0",
  text: "#1d2422",
  muted: "#55605c",
  faint: "#626d69",
  accent: "#0f6b4c",
  onAccent: "#ffffff",
  varying: "#6f5608",
  number: "#5d3fb0",
  mark: "#6a3fb5",
  severity: {
    trace: "#6b7673",
    debug: "#6b7673",
    info: "#33639f",
    warn: "#8f5f00",
    error: "#b92a1f",
    fatal: "#8d140b",
  },
  calmBar: "#9db3cf",
  quietBar: "#cfd5d0",
  stack: ["#3f74ab", "#7358bd", "#2c7d67", "#96691f", "#974a78", "#5f7338"],
};

export const palettes: Record<ThemeName, Palette> = { night, day };

export const space = { xs: "4px", s: "8px", m: "12px", l: "16px", xl: "24px" } as const;
export const type = {
  text: '"Atkinson Hyperlegible Next Variable", system-ui, sans-serif',
  mono: '"Commit Mono", ui-monospace, monospace',
  small: "12px",
  body: "13px",
  lead: "16px",
  head: "20px",
} as const;
export const rowHeight = 28;
export const radius = "4px";
