import type {
  BreakdownAnswer,
  CheckAnswer,
  CompareAnswer,
  Contact,
  CompareRequest,
  ErrorsAnswer,
  ErrorsRequest,
  Finding,
  FoundFieldsAnswer,
  NowAnswer,
  SayOfGroup,
  Grant,
  LaneReader,
  NewGrant,
  PasswordCode,
  Person,
  PutTeam,
  Session,
  Team,
  Token,
  TrailEntry,
  TrailVerified,
  Proposal,
  RangeMeant,
  SavedSearch,
  ShapeAnswer,
  StreamLine,
  Alert,
  AlertInFull,
  AlertMessage,
  AppliedRule,
  CheckedRule,
  Rehearsal,
  ArrivalsAnswer,
  Dial,
  FieldListed,
  FoundId,
  HistogramAnswer,
  MeasureAnswer,
  KeyLimits,
  LogEvent,
  Me,
  Mistake,
  NodeListed,
  Probed,
  Rule,
  RuleVersion,
  SearchAnswer,
  SearchRequest,
  SenderKey,
  TransformRule,
  StoryAnswer,
  Tie,
  TieProposal,
  TriedEvent,
  WayIn,
} from "./types";
import { noteReach } from "./reach";

/** What the service says went wrong (RFC 9457). */
export class ProblemError extends Error {
  constructor(
    readonly status: number,
    detail: string,
    readonly mistakes: Mistake[] = [],
  ) {
    super(detail);
  }
}

/** The address of settings of a team; of the service where none is given. */
const ofTeam = (path: string, team?: string) => (team ? `${path}?team=${encodeURIComponent(team)}` : path);

async function call<T>(method: string, path: string, body?: unknown, signal?: AbortSignal): Promise<T> {
  let response: Response;
  try {
    response = await fetch(`/api${path}`, {
      method,
      signal,
      headers: { "x-calvex-console": "1", ...(body === undefined ? {} : { "content-type": "application/json" }) },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch (e) {
    if (signal?.aborted) throw e;
    noteReach(false);
    throw new ProblemError(0, "The service does not answer. Is it running, and is the network up?");
  }
  noteReach(true);
  if (!response.ok) {
    const problem = await response.json().catch(() => ({}));
    throw new ProblemError(
      response.status,
      problem.detail ?? `The service answered ${response.status}.`,
      problem.mistakes,
    );
  }
  return response.status === 204 ? (undefined as T) : response.json();
}

/** Asks for an answer that comes line by line, and hands over each line. */
export async function stream<T>(
  path: string,
  body: unknown,
  take: (line: T) => void,
  signal: AbortSignal,
): Promise<void> {
  const response = await fetch(`/api${path}`, {
    method: "POST",
    signal,
    headers: { "x-calvex-console": "1", "content-type": "application/json", accept: "application/x-ndjson" },
    body: JSON.stringify(body),
  }).catch((e: unknown) => {
    if (signal.aborted) throw e;
    noteReach(false);
    throw new ProblemError(0, "The service does not answer. Is it running, and is the network up?");
  });
  if (!response.ok || !response.body) {
    const problem = await response.json().catch(() => ({}));
    throw new ProblemError(
      response.status,
      problem.detail ?? `The service answered ${response.status}.`,
      problem.mistakes,
    );
  }
  const reader = response.body.pipeThrough(new TextDecoderStream()).getReader();
  let held = "";
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    held += value;
    const lines = held.split("\n");
    held = lines.pop() ?? "";
    for (const line of lines) if (line) take(JSON.parse(line) as T);
  }
}

/** What is reported of an answer on its way. */
export interface OnTheWay {
  progress?: (done: number, total: number) => void;
  events?: (events: LogEvent[]) => void;
  counts?: (counts: { from_ns: string; step_ns: number; buckets: number[][] }) => void;
  findings?: (findings: Finding[]) => void;
}

/** Asks for an answer and hears how far it is. */
async function reported<T>(path: string, body: unknown, way: OnTheWay, signal: AbortSignal): Promise<T> {
  let answer: T | undefined;
  await stream<StreamLine<T>>(
    path,
    body,
    (line) => {
      if ("progress" in line) way.progress?.(line.progress.done, line.progress.total);
      else if ("events" in line) way.events?.(line.events);
      else if ("counts" in line) way.counts?.(line.counts);
      else if ("findings" in line) way.findings?.(line.findings);
      else if ("problem" in line)
        throw new ProblemError(line.problem.status, line.problem.detail, line.problem.mistakes);
      else answer = line.answer;
    },
    signal,
  );
  if (answer === undefined) throw new ProblemError(0, "The answer broke off. Try again.");
  return answer;
}

export const api = {
  me: () => call<Me>("GET", "/me"),
  login: (name: string, password: string) => call<Me>("POST", "/login", { name, password }),
  signOnOffer: () => call<{ label: string | null }>("GET", "/sign-on/offer"),
  redeem: (code: string, password: string) => call<void>("POST", "/redeem", { code, password }),
  logout: () => call<void>("POST", "/logout"),
  search: (ask: SearchRequest, signal?: AbortSignal) => call<SearchAnswer>("POST", "/search", ask, signal),
  histogram: (ask: SearchRequest, signal?: AbortSignal) => call<HistogramAnswer>("POST", "/histogram", ask, signal),
  errors: (ask: ErrorsRequest, signal?: AbortSignal) => call<ErrorsAnswer>("POST", "/errors", ask, signal),
  sayOfError: (id: string, say: SayOfGroup) => call<void>("PUT", `/errors/${id}`, say),
  measure: (ask: SearchRequest, signal?: AbortSignal) => call<MeasureAnswer>("POST", "/measure", ask, signal),
  searchTold: (ask: SearchRequest, way: OnTheWay, signal: AbortSignal) =>
    reported<SearchAnswer>("/search", ask, way, signal),
  histogramTold: (ask: SearchRequest, way: OnTheWay, signal: AbortSignal) =>
    reported<HistogramAnswer>("/histogram", ask, way, signal),
  check: (query: string, signal?: AbortSignal) => call<CheckAnswer>("POST", "/check", { query }, signal),
  complete: (ask: { query: string; at: number; from?: string; to?: string }, signal?: AbortSignal) =>
    call<{ from: number; proposals: Proposal[] }>("POST", "/complete", ask, signal),
  range: (text: string, zone?: string, signal?: AbortSignal) =>
    call<RangeMeant>("POST", "/range", { text, zone }, signal),
  foundFields: (ask: SearchRequest, signal?: AbortSignal) =>
    call<FoundFieldsAnswer>("POST", "/found-fields", ask, signal),
  breakdown: (ask: SearchRequest & { fields: string[]; top?: number }, signal?: AbortSignal) =>
    call<BreakdownAnswer>("POST", "/breakdown", ask, signal),
  shape: (ask: { message?: string; shape?: string } & Partial<SearchRequest>, signal?: AbortSignal) =>
    call<ShapeAnswer>("POST", "/shape", ask, signal),
  now: (signal?: AbortSignal) => call<NowAnswer>("GET", "/now", undefined, signal),
  saved: (signal?: AbortSignal) => call<SavedSearch[]>("GET", "/saved", undefined, signal),
  save: (search: Pick<SavedSearch, "name" | "query" | "from" | "to" | "columns" | "note">) =>
    call<void>("PUT", `/saved/${encodeURIComponent(search.name)}`, search),
  removeSaved: (name: string) => call<void>("DELETE", `/saved/${encodeURIComponent(name)}`),
  story: (id: string, ask: { open?: string; columns?: string; link?: string }, signal?: AbortSignal) =>
    call<StoryAnswer>("GET", `/story/${encodeURIComponent(id)}?${new URLSearchParams(ask)}`, undefined, signal),
  checkRule: (document: string, signal?: AbortSignal) =>
    call<CheckedRule>("POST", "/rules/check", { document }, signal),
  rehearse: (ask: { document: string; days?: number; until?: string }, signal?: AbortSignal) =>
    call<Rehearsal>("POST", "/rules/rehearse", ask, signal),
  applyRule: (ask: { document: string; dry_run: boolean; team?: string }) =>
    call<AppliedRule>("POST", "/rules/apply", ask),
  compare: (ask: CompareRequest, way: OnTheWay, signal: AbortSignal) =>
    reported<CompareAnswer>("/compare", ask, way, signal),
  paste: (text: string) => call<FoundId[]>("POST", "/paste", { text }),
  arrivals: (hours: number, service: string, signal?: AbortSignal) => {
    const ask = new URLSearchParams({ hours: String(hours), ...(service ? { service } : {}) });
    return call<ArrivalsAnswer>("GET", `/arrivals?${ask}`, undefined, signal);
  },
  waysIn: (signal?: AbortSignal) => call<WayIn[]>("GET", "/ways-in", undefined, signal),
  probe: () => call<Probed[]>("POST", "/probe", {}),
  keys: (signal?: AbortSignal) => call<SenderKey[]>("GET", "/keys", undefined, signal),
  addKey: (name: string, limits: KeyLimits) => call<{ secret: string }>("POST", "/keys", { name, limits }),
  limitKey: (name: string, limits: KeyLimits) => call<void>("PUT", `/keys/${encodeURIComponent(name)}/limits`, limits),
  rotateKey: (name: string, overlap_s: number) =>
    call<{ secret: string }>("POST", `/keys/${encodeURIComponent(name)}/rotate`, { overlap_s }),
  revokeKey: (name: string) => call<void>("DELETE", `/keys/${encodeURIComponent(name)}`),
  dials: (signal?: AbortSignal) => call<Dial[]>("GET", "/dials", undefined, signal),
  addDial: (dial: { when: string; least: string; for_s?: number; why: string; team?: string }) =>
    call<Dial>("POST", "/dials", dial),
  removeDial: (id: number) => call<void>("DELETE", `/dials/${id}`),
  transforms: (signal?: AbortSignal) => call<TransformRule[]>("GET", "/transforms", undefined, signal),
  putTransforms: (team: string | undefined, rules: TransformRule["rule"][]) =>
    call<void>("PUT", ofTeam("/transforms", team), rules),
  tryTransforms: (team: string | undefined, events: string, rules?: TransformRule["rule"][]) =>
    call<TriedEvent[]>("POST", ofTeam("/transforms/try", team), { events, ...(rules ? { rules } : {}) }),
  ties: (signal?: AbortSignal) => call<Tie[]>("GET", "/ties", undefined, signal),
  putTie: (tie: Tie) => call<void>("PUT", `/ties/${encodeURIComponent(tie.name)}`, tie),
  tieProposals: (signal?: AbortSignal) => call<TieProposal[]>("GET", "/ties/proposals", undefined, signal),
  fields: (signal?: AbortSignal) => call<FieldListed[]>("GET", "/fields", undefined, signal),
  rules: (signal?: AbortSignal) => call<Rule[]>("GET", "/rules", undefined, signal),
  alerts: (signal?: AbortSignal) => call<Alert[]>("GET", "/alerts", undefined, signal),
  alert: (id: string, signal?: AbortSignal) => call<AlertInFull>("GET", `/alerts/${id}`, undefined, signal),
  take: (id: number) => call<void>("POST", `/alerts/${id}/take`, {}),
  noteAlert: (id: number, text: string) => call<void>("POST", `/alerts/${id}/notes`, { text }),
  muteRule: (id: number, mute: { for?: string; where?: string; why?: string }) =>
    call<void>("POST", `/rules/${id}/mute`, { why: "", ...mute }),
  ruleVersions: (id: number, signal?: AbortSignal) =>
    call<RuleVersion[]>("GET", `/rules/${id}/versions`, undefined, signal),
  contacts: (signal?: AbortSignal) => call<Contact[]>("GET", "/contacts", undefined, signal),
  people: (signal?: AbortSignal) => call<Person[]>("GET", "/people", undefined, signal),
  addPerson: (name: string, role: string) => call<PasswordCode>("POST", "/people", { name, role }),
  changePerson: (name: string, to: { role?: string; disabled?: boolean }) =>
    call<void>("PUT", `/people/${encodeURIComponent(name)}`, to),
  passwordCode: (name: string) => call<PasswordCode>("POST", `/people/${encodeURIComponent(name)}/code`, {}),
  signOut: (name: string) => call<void>("DELETE", `/people/${encodeURIComponent(name)}/sessions`),
  changePassword: (password: string, new_password: string) =>
    call<void>("POST", "/me/password", { password, new_password }),
  sessions: (signal?: AbortSignal) => call<Session[]>("GET", "/me/sessions", undefined, signal),
  endSession: (id: number) => call<void>("DELETE", `/me/sessions/${id}`),
  tokens: (signal?: AbortSignal) => call<Token[]>("GET", "/tokens", undefined, signal),
  addToken: (ask: { name: string; purpose: string; team: string }) =>
    call<{ name: string; secret: string }>("POST", "/tokens", ask),
  revokeToken: (name: string) => call<void>("DELETE", `/tokens/${encodeURIComponent(name)}`),
  nodes: (signal?: AbortSignal) => call<NodeListed[]>("GET", "/nodes", undefined, signal),
  putNode: (name: string, to: { draining: boolean }) => call<void>("PUT", `/nodes/${encodeURIComponent(name)}`, to),
  retireNode: (name: string) => call<void>("DELETE", `/nodes/${encodeURIComponent(name)}`),
  teams: (signal?: AbortSignal) => call<Team[]>("GET", "/teams", undefined, signal),
  putTeam: (name: string, to: PutTeam) => call<void>("PUT", `/teams/${encodeURIComponent(name)}`, to),
  removeTeam: (name: string) => call<void>("DELETE", `/teams/${encodeURIComponent(name)}`),
  grants: (signal?: AbortSignal) => call<Grant[]>("GET", "/grants", undefined, signal),
  giveGrant: (grant: NewGrant) => call<Grant>("POST", "/grants", grant),
  endGrant: (id: number) => call<void>("DELETE", `/grants/${id}`),
  breakGlass: (lane: string, why: string) => call<Grant>("POST", "/break-glass", { lane, why }),
  readers: (lane: string, signal?: AbortSignal) =>
    call<LaneReader[]>("GET", `/lanes/${encodeURIComponent(lane)}/readers`, undefined, signal),
  trail: (ask: { word: string; who: string; limit: number; before?: number }, signal?: AbortSignal) => {
    const given = Object.entries(ask).filter(([, value]) => value !== undefined && value !== "");
    const asked = new URLSearchParams(given.map(([name, value]) => [name, String(value)]));
    return call<TrailEntry[]>("GET", `/trail?${asked}`, undefined, signal);
  },
  verifyTrail: () => call<TrailVerified>("POST", "/trail/verify", {}),
  testContact: (name: string) =>
    call<{ kind: string; state: string }[]>("POST", `/contacts/${encodeURIComponent(name)}/test`, {}),
  messages: (signal?: AbortSignal) => call<AlertMessage[]>("GET", "/messages", undefined, signal),
};
