// A sender that turns its own level by Calvex's dials (docs/sending.md, "Dials"). Needs nothing but Node 18 or newer.
//
//   CALVEX_URL=http://127.0.0.1:8437 CALVEX_KEY=calvex-key-… node docs/examples/follow-dial.mjs slots slots-1
//
// Prints a line whenever its level changes, and sends one event of each severity every second, down to that level.

const LEVELS = ["trace", "debug", "info", "warn", "error", "fatal"];
const [service = "slots", host = "slots-1"] = process.argv.slice(2);
const base = process.env.CALVEX_URL ?? "http://127.0.0.1:8437";
const authorization = `Bearer ${process.env.CALVEX_KEY ?? ""}`;
const pollMs = Number(process.env.POLL_MS ?? 15_000);

// The sender's own level, where no dial says otherwise.
let level = "info";
let tag;

async function follow() {
  const ask = `${base}/v1/dials?${new URLSearchParams({ service, host })}`;
  const headers = { authorization, ...(tag ? { "if-none-match": tag } : {}) };
  const answer = await fetch(ask, { headers });
  if (answer.status === 304) return;
  if (!answer.ok) throw new Error(`the dials were not told: ${answer.status} ${(await answer.json()).detail}`);
  tag = answer.headers.get("etag");
  const { lowest } = await answer.json();
  const next = lowest ?? "info";
  if (next !== level) console.log(`level ${level} -> ${next}`);
  level = next;
}

async function say() {
  const kept = LEVELS.slice(LEVELS.indexOf(level));
  const events = kept.map((severity) => ({
    time: new Date().toISOString(),
    severity,
    service,
    host,
    message: `slot lease renewed, told as ${severity}`,
  }));
  const body = events.map((e) => JSON.stringify(e) + "\n").join("");
  const answer = await fetch(`${base}/v1/events`, { method: "POST", headers: { authorization }, body });
  if (!answer.ok) throw new Error(`not sent: ${answer.status}`);
}

// What goes wrong is told and tried again: a sender must not end because its log is away for a moment.
const again = (act, ms) => {
  const turn = () => act().catch((e) => console.error(e.message)).finally(() => setTimeout(turn, ms));
  turn();
};
again(follow, pollMs);
again(say, 1000);
