import { useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useState, type ReactNode } from "react";
import { NavLink } from "react-router";
import styled from "styled-components";
import { forgetRecent } from "../features/search/recent";
import { api } from "../api/client";
import { Quiet } from "../ui/controls";
import { Elsewhere } from "./Elsewhere";
import { KeyList } from "./KeyList";
import { useKeys } from "./keys";
import { useMe } from "./session";
import { useThemeName } from "./theme";
import { space, type } from "./tokens";
import { useZone } from "./zone";

/** Only needed once someone is about. */
const GoTo = lazy(() => import("./GoTo").then((module) => ({ default: module.GoTo })));

const Frame = styled.div`
  height: 100%;
  display: grid;
  grid-template: auto minmax(0, 1fr) / minmax(0, 1fr);
`;

const Bar = styled.header`
  display: flex;
  align-items: baseline;
  gap: ${space.l};
  padding: ${space.m} ${space.l};
  border-bottom: 1px solid ${(p) => p.theme.line};
  nav {
    display: flex;
    gap: ${space.l};
    flex: 1;
  }
  @media (max-width: 600px) {
    gap: ${space.s};
    padding: ${space.s};
    white-space: nowrap;
    flex-wrap: wrap;
    justify-content: flex-end;
    strong {
      flex: 1;
    }
    nav {
      order: 1;
      flex: none;
      width: 100%;
      justify-content: space-between;
    }
  }
  a {
    color: ${(p) => p.theme.muted};
    text-decoration: none;
  }
  a.active {
    color: ${(p) => p.theme.text};
    font-weight: 650;
  }
  a:hover {
    color: ${(p) => p.theme.accent};
  }
`;

const Brand = styled.strong`
  font-size: ${type.lead};
  letter-spacing: 0.02em;
`;

const Raised = styled(NavLink)`
  && {
    color: ${(p) => p.theme.severity.error};
  }
`;

const Far = styled.span`
  @media (max-width: 600px) {
    display: none;
  }
`;

const Body = styled.div`
  min-height: 0;
  display: flex;
  flex-direction: column;
`;

const Content = styled.main`
  flex: 1;
  min-height: 0;
  overflow: hidden;
`;

/** The bar with the places, and the page below it. */
export function Shell({ children }: { children: ReactNode }) {
  const me = useMe();
  const theme = useThemeName();
  const { zone, toggle: toggleZone } = useZone();
  const queries = useQueryClient();
  const alerts = useQuery({
    queryKey: ["alerts"],
    queryFn: ({ signal }) => api.alerts(signal),
    refetchInterval: 15_000,
  });
  const raised = alerts.data?.filter((a) => !a.ended).length ?? 0;
  const [keys, setKeys] = useState(false);
  useKeys({ u: toggleZone, "?": () => setKeys(true) });
  const leave = async () => {
    await api.logout();
    queries.clear();
    forgetRecent();
    window.location.assign("/search");
  };
  return (
    <Frame>
      <Bar>
        <Brand>Calvex</Brand>
        <nav aria-label="Places">
          <NavLink to="/now">Now</NavLink>
          <NavLink to="/search">Search</NavLink>
          <NavLink to="/story">Story</NavLink>
          <NavLink to="/compare">Compare</NavLink>
          <NavLink to="/alerts">Alerts</NavLink>
          <NavLink to="/intake">Intake</NavLink>
          <NavLink to="/people">People</NavLink>
        </nav>
        {raised > 0 && <Raised to="/alerts">{raised} raised</Raised>}
        <Quiet onPress={toggleZone} aria-label={`Times in ${zone === "utc" ? "UTC" : "local time"}; change`}>
          {zone === "utc" ? "UTC" : "local"}
        </Quiet>
        <Quiet onPress={theme.toggle}>{theme.name === "night" ? "day" : "night"}</Quiet>
        <Far>{me?.name}</Far>
        <Quiet onPress={leave}>sign out</Quiet>
      </Bar>
      <Body>
        <Elsewhere />
        <Content>{children}</Content>
      </Body>
      <Suspense fallback={null}>
        <GoTo />
      </Suspense>
      <KeyList open={keys} onClose={() => setKeys(false)} />
    </Frame>
  );
}
