//! Every form at the edges of time: the table of cases in `golden/edges.txt`. Each is judged turn by turn, as the service does
//! while events come, and at once, as a rehearsal does; the same moments are raised, but where a case says that they are not.
//!
//! ```text
//! ==== form            a rule's document follows, then its cases
//! ---- case            its events, what happens to the service, and, behind =>, what is raised
//! background           before the first case: events that stand in every case of the form
//! TIME [every SPAN until TIME] SERVICE MESSAGE [xN] [error] [zone=Z] [late=SPAN]
//! restart TIME | down TIME to TIME | mute FILTER from TIME to TIME | clock SPAN ahead|behind from TIME to TIME
//! resolved MESSAGE at TIME   the error group of such events
//! begin TIME | end TIME | differs   where turns begin and stop; what comes later than the rule waits makes both differ
//! ```
//! Times are hours, minutes and seconds from the beginning. Turns are ten seconds apart.

use super::by_turns::{At, Sent, at_once, both, by_turns};
use crate::watch::{Known, Resolved, Rule, RuleDocument};
use calvex_language::model::{Event, Path, Severity, Value};
use calvex_language::query::{Ties, parse_duration_ns};

const SECOND: i64 = 1_000_000_000;
const TURN: i64 = 10 * SECOND;

/// What happens beside the events.
#[derive(Default, Clone)]
struct Script {
    sent: Vec<Sent>,
    restarts: Vec<i64>,
    down: Vec<(i64, i64)>,
    mutes: Vec<(String, i64, i64)>,
    clocks: Vec<(i64, i64, i64)>,
    /// Error groups that were resolved, by a message of theirs.
    resolved: Vec<(String, i64)>,
    begin: i64,
    end: i64,
    differs: bool,
}

fn time(text: &str) -> i64 {
    let mut parts = text.split(':').map(|part| part.parse::<i64>().unwrap_or_else(|_| panic!("no time: {text}")));
    let mut next = || parts.next().unwrap_or(0);
    (next() * 3600 + next() * 60 + next()) * SECOND
}

fn shown(ns: i64) -> String {
    let s = ns / SECOND;
    format!("{}:{:02}:{:02}", s / 3600, s / 60 % 60, s % 60)
}

fn span(text: &str) -> i64 {
    parse_duration_ns(text).unwrap_or_else(|| panic!("no span: {text}")) as i64
}

impl Script {
    fn line(&mut self, line: &str) {
        let words: Vec<&str> = line.split_whitespace().collect();
        match words.as_slice() {
            ["restart", at] => self.restarts.push(time(at)),
            ["down", from, "to", to] => self.down.push((time(from), time(to))),
            ["mute", filter, "from", from, "to", to] => {
                self.mutes.push((filter.replace("everything", ""), time(from), time(to)))
            }
            ["clock", by, way, "from", from, "to", to] => {
                let by = if *way == "ahead" { span(by) } else { -span(by) };
                self.clocks.push((by, time(from), time(to)));
            }
            ["resolved", message, "at", at] => self.resolved.push(((*message).to_owned(), time(at))),
            ["begin", at] => self.begin = time(at),
            ["end", at] => self.end = time(at),
            ["differs"] => self.differs = true,
            [at, "every", every, "until", until, event @ ..] => {
                let mut next = time(at);
                while next < time(until) {
                    self.event(next, event);
                    next += span(every);
                }
            }
            [at, event @ ..] => self.event(time(at), event),
            [] => {}
        }
    }

    fn event(&mut self, time_ns: i64, words: &[&str]) {
        let [service, message, more @ ..] = words else { panic!("no event: {words:?}") };
        let mut event = Event { time_ns, service: (*service).into(), message: (*message).into(), ..Event::default() };
        event.severity = Severity(9);
        let (mut times, mut late) = (1, 0);
        for word in more {
            match word.split_once('=') {
                Some(("late", by)) => late = span(by),
                Some((field, value)) => event.fields.push((Path::root(field), Value::Text(value.into()))),
                None if *word == "error" => event.severity = Severity(17),
                None => times = word.trim_start_matches('x').parse().unwrap_or_else(|_| panic!("unknown: {word}")),
            }
        }
        self.sent.extend((0..times).map(|_| (event.clone(), time_ns + late)));
    }

    fn turns(&self) -> Vec<At> {
        let mut turns: Vec<At> = Vec::new();
        let mut was_down = false;
        let mut true_ns = self.begin;
        while true_ns <= self.end {
            let is_down = self.down.iter().any(|(from, to)| (*from..*to).contains(&true_ns));
            let forgets = self.restarts.iter().any(|at| (true_ns - TURN..true_ns).contains(at)) || was_down && !is_down;
            let clock = self.clocks.iter().find(|(_, from, to)| (*from..*to).contains(&true_ns));
            let mutes = self.mutes.iter().filter(|(_, from, to)| (*from..*to).contains(&true_ns));
            let mutes = mutes.map(|(filter, ..)| filter.clone()).collect();
            let now_ns = true_ns + clock.map_or(0, |(by, ..)| *by);
            if !is_down {
                turns.push(At { now_ns, came_ns: true_ns, forgets, mutes });
            }
            was_down = is_down;
            true_ns += TURN;
        }
        turns
    }

    /// What is known beside the events once those up to a moment have come.
    fn known(&self, came_ns: i64) -> Known {
        let resolved = self.resolved.iter().map(|(message, at_ns)| {
            let of = || self.sent.iter().filter(|(event, _)| event.message == *message);
            let event = of().next().map(|(event, _)| event).unwrap_or_else(|| panic!("no event: {message}"));
            let group = calvex_language::failure::group_of(event.kind, &event.service, None, None, message);
            let seen = of().filter(|(event, at)| *at <= came_ns && event.time_ns > *at_ns);
            let returned_ns = seen.map(|(event, _)| event.time_ns).min();
            (group.unwrap().id, Resolved { at_ns: *at_ns, returned_ns })
        });
        Known { resolved: resolved.collect(), ..Known::default() }
    }

    /// What is raised, a line each.
    fn judged(&self, rule: &Rule) -> String {
        let live = by_turns(rule, &self.sent, &|came_ns| self.known(came_ns), (self.begin, &self.turns()));
        let until_ns = rule.judged_until(self.end);
        let truth = at_once(rule, &self.sent, &self.known(i64::MAX), (self.begin, until_ns));
        let line = |name: &str, raised_ns: i64, ended_ns: Option<i64>, more: &str| {
            // Ids of error groups say nothing to a reader.
            let name = if rule.document.error_group.is_some() { "group" } else { name };
            let name = if name.is_empty() { "all" } else { name };
            let until = ended_ns.map_or("still".to_owned(), |at| format!("to {}", shown(at)));
            format!("=> {name} {} {until}{more}\n", shown(raised_ns))
        };
        let mut lines: Vec<(i64, String)> = live
            .iter()
            .map(|g| {
                let more = [(g.withdrawn, " withdrawn"), (g.muted, " muted")];
                let more: String = more.iter().filter(|(is, _)| *is).map(|(_, word)| *word).collect();
                (g.raising.raised_ns, line(&g.name, g.raising.raised_ns, g.raising.ended_ns, &more))
            })
            .collect();
        lines.sort();
        let mut out: String = lines.into_iter().map(|(_, line)| line).collect();
        if out.is_empty() {
            out = "=> nothing\n".to_owned();
        }
        if both(rule, &live, &truth, until_ns) == self.differs {
            out += "!! at once\n";
            out += &truth.iter().map(|(name, r)| line(name, r.raised_ns, r.ended_ns, "")).collect::<String>();
        }
        out
    }
}

#[test]
fn every_form_at_the_edges_of_time() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/src/watch/golden/edges.txt");
    let golden = std::fs::read_to_string(path).unwrap();
    let mut out = String::new();
    for form in golden.split("==== ").skip(1) {
        let mut cases = form.split("---- ");
        let head = cases.next().unwrap();
        let (title, rest) = head.split_once('\n').unwrap();
        let (document, background) = rest.split_once("background\n").unwrap();
        let rule = RuleDocument::read(document, &Ties::default()).unwrap_or_else(|e| panic!("{document}\n{e:?}"));
        let mut script = Script { end: 2 * 3600 * SECOND, ..Script::default() };
        background.lines().for_each(|line| script.line(line));
        out += &format!("==== {title}\n{document}background\n{background}");
        for case in cases {
            let (what, lines) = case.split_once('\n').unwrap();
            let lines: Vec<&str> = lines.lines().take_while(|line| !line.starts_with(['=', '!'])).collect();
            let mut script = script.clone();
            lines.iter().for_each(|line| script.line(line));
            let lines: String = lines.iter().filter(|line| !line.is_empty()).map(|line| format!("{line}\n")).collect();
            out += &format!("---- {what}\n{lines}{}\n", script.judged(&rule));
        }
    }
    if std::env::var_os("CALVEX_BLESS").is_some() {
        std::fs::write(path, &out).unwrap();
    }
    assert!(!out.contains("!!"), "by turns and at once differ:\n{out}");
    assert_eq!(out, golden);
}
