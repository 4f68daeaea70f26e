import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { lazy, Suspense } from "react";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { ProblemError } from "../api/client";
import { SignedIn } from "./session";
import { Shell } from "./Shell";
import { NoPage } from "./NoPage";
import { Theme } from "./theme";

const NowPage = lazy(() => import("../features/now/NowPage"));
const SearchPage = lazy(() => import("../features/search/SearchPage"));
const TailPage = lazy(() => import("../features/tail/TailPage"));
const StoryPage = lazy(() => import("../features/story/StoryPage"));
const ComparePage = lazy(() => import("../features/compare/ComparePage"));
const IntakePage = lazy(() => import("../features/intake/IntakePage"));
const KeysPage = lazy(() => import("../features/intake/KeysPage"));
const TransformsPage = lazy(() => import("../features/intake/TransformsPage"));
const DialsPage = lazy(() => import("../features/intake/DialsPage"));
const FieldsPage = lazy(() => import("../features/intake/FieldsPage"));
const AlertsPage = lazy(() => import("../features/alerts/AlertsPage"));
const AlertPage = lazy(() => import("../features/alerts/AlertPage"));
const ContactsPage = lazy(() => import("../features/alerts/ContactsPage"));
const YouPage = lazy(() => import("../features/people/YouPage"));
const GrantsPage = lazy(() => import("../features/people/GrantsPage"));
const EverybodyPage = lazy(() => import("../features/people/EverybodyPage"));
const TeamsPage = lazy(() => import("../features/people/TeamsPage"));
const TrailPage = lazy(() => import("../features/people/TrailPage"));
const NodesPage = lazy(() => import("../features/intake/NodesPage"));
const RulesPage = lazy(() => import("../features/rules/RulesPage"));
const RulePage = lazy(() => import("../features/rules/RulePage"));

const retry = (count: number, error: Error) => count < 2 && error instanceof ProblemError && error.status === 503;
const queries = new QueryClient({
  defaultOptions: { queries: { retry, refetchOnWindowFocus: false, staleTime: 5000 } },
});

/** The whole console: theme, session, and one page an address. */
export function App() {
  return (
    <Theme>
      <QueryClientProvider client={queries}>
        <BrowserRouter>
          <SignedIn>
            <Shell>
              <Suspense fallback={null}>
                <Routes>
                  <Route path="/" element={<Navigate to="/now" replace />} />
                  <Route path="/now" element={<NowPage />} />
                  <Route path="/search" element={<SearchPage />} />
                  <Route path="/tail" element={<TailPage />} />
                  <Route path="/story/:id?" element={<StoryPage />} />
                  <Route path="/compare" element={<ComparePage />} />
                  <Route path="/intake" element={<IntakePage />} />
                  <Route path="/intake/keys" element={<KeysPage />} />
                  <Route path="/intake/transforms" element={<TransformsPage />} />
                  <Route path="/intake/dials" element={<DialsPage />} />
                  <Route path="/intake/fields" element={<FieldsPage />} />
                  <Route path="/alerts" element={<AlertsPage />} />
                  <Route path="/alerts/:id" element={<AlertPage />} />
                  <Route path="/contacts" element={<ContactsPage />} />
                  <Route path="/people" element={<YouPage />} />
                  <Route path="/people/grants" element={<GrantsPage />} />
                  <Route path="/people/all" element={<EverybodyPage />} />
                  <Route path="/people/teams" element={<TeamsPage />} />
                  <Route path="/people/trail" element={<TrailPage />} />
                  <Route path="/intake/nodes" element={<NodesPage />} />
                  <Route path="/rules" element={<RulesPage />} />
                  <Route path="/rules/new" element={<RulePage />} />
                  <Route path="/rules/:name" element={<RulePage />} />
                  <Route path="*" element={<NoPage />} />
                </Routes>
              </Suspense>
            </Shell>
          </SignedIn>
        </BrowserRouter>
      </QueryClientProvider>
    </Theme>
  );
}
