import { createContext, useContext, useEffect, useState, type ReactNode } from "react";
import { createGlobalStyle, ThemeProvider } from "styled-components";
import { palettes, type Palette, type ThemeName, type as face } from "./tokens";

declare module "styled-components" {
  // eslint-disable-next-line @typescript-eslint/no-empty-object-type -- styled-components takes its theme's type by merging
  export interface DefaultTheme extends Palette {}
}

const Global = createGlobalStyle`
  *, *::before, *::after { box-sizing: border-box; scrollbar-width: thin; scrollbar-color: ${(p) => p.theme.line} transparent; }
  html, body, #root { height: 100%; margin: 0; }
  body {
    background: ${(p) => p.theme.ground};
    color: ${(p) => p.theme.text};
    font: 400 ${face.body}/1.4 ${face.text};
    font-variant-numeric: tabular-nums;
  }
  button, input, select { font: inherit; color: inherit; }
  :focus-visible { outline: 2px solid ${(p) => p.theme.accent}; outline-offset: 1px; }
  ::selection { background: ${(p) => p.theme.accent}; color: ${(p) => p.theme.onAccent}; }
  @media (prefers-reduced-motion: reduce) { *, *::before, *::after { transition: none !important; animation: none !important; } }
`;

const Context = createContext<{ name: ThemeName; toggle: () => void }>({ name: "night", toggle: () => undefined });

/** The theme's name and the way to change it. */
export const useThemeName = () => useContext(Context);

/** Gives the tokens to everything below, and remembers the choice. */
export function Theme({ children }: { children: ReactNode }) {
  const [name, setName] = useState<ThemeName>(() => (localStorage.getItem("calvex.theme") === "day" ? "day" : "night"));
  useEffect(() => {
    localStorage.setItem("calvex.theme", name);
    document.documentElement.style.colorScheme = name === "day" ? "light" : "dark";
  }, [name]);
  const toggle = () => setName((n) => (n === "night" ? "day" : "night"));
  return (
    <Context value={{ name, toggle }}>
      <ThemeProvider theme={palettes[name]}>
        <Global />
        {children}
      </ThemeProvider>
    </Context>
  );
}
