//! A document becomes a rule that can be judged: its filters and durations are read, and all that is wrong is collected.

use super::document::{DocumentMistake, MAX_DOCUMENT_BYTES, RuleDocument};
use super::states::{Bound, Side};
use calvex_language::query::{
    Context, Field, Filter, Function, Measure, Ties, parse, parse_duration_ns, parse_filter, written_duration_s,
};

/// Fields of `per` at most.
const MAX_PER: usize = 3;
/// Contacts of a rule at most.
const MAX_NOTIFY: usize = 8;
const SECOND_NS: i64 = 1_000_000_000;
const MINUTE_NS: i64 = 60 * SECOND_NS;
const DAY_NS: i64 = 86_400 * SECOND_NS;

/// A rule that can be judged.
#[derive(Debug, Clone, PartialEq)]
pub struct Rule {
    /// As written.
    pub document: RuleDocument,
    /// What is judged.
    pub form: Form,
    /// How long it must be so.
    pub hold_ns: i64,
    /// How long after its end a window is judged.
    pub delay_ns: i64,
    /// How late events may come.
    pub late_ns: i64,
    /// Distance of two judgements.
    pub step_ns: i64,
    /// When it is so.
    pub bound: Bound,
}

impl Rule {
    /// A stand-in for a document that is no rule any more, to be listed.
    pub fn unreadable(document: RuleDocument) -> Rule {
        let form = Form::Threshold { filter: Filter::All, measure: counted(Vec::new()), over_ns: MINUTE_NS };
        let bound = Bound { side: Side::Above, number: 0.0 };
        Rule { document, form, hold_ns: 0, delay_ns: 0, late_ns: 0, step_ns: MINUTE_NS, bound }
    }

    /// The latest moment that can be judged at `now_ns`.
    pub fn judged_until(&self, now_ns: i64) -> i64 {
        (now_ns - self.delay_ns).div_euclid(self.step_ns) * self.step_ns
    }

    /// The window that a value is of.
    pub fn window_ns(&self) -> i64 {
        match &self.form {
            Form::Threshold { over_ns, .. } | Form::Share { over_ns, .. } | Form::Deviation { over_ns, .. } => *over_ns,
            Form::Unfinished { within_ns, .. } => *within_ns,
            Form::Objective { .. } => 3600 * SECOND_NS,
            Form::Silence { .. } | Form::FirstSeen { .. } | Form::ErrorGroups { .. } => 5 * MINUTE_NS,
        }
    }

    /// The events that it looks at; of an unfinished one the beginnings.
    pub fn filter(&self) -> &Filter {
        match &self.form {
            Form::Threshold { filter, .. }
            | Form::Share { filter, .. }
            | Form::Silence { filter, .. }
            | Form::FirstSeen { filter, .. }
            | Form::Deviation { filter, .. }
            | Form::Objective { filter, .. }
            | Form::ErrorGroups { filter, .. } => filter,
            Form::Unfinished { begins, .. } => begins,
        }
    }

    /// The fields whose values it judges apart.
    pub fn per(&self) -> &[Field] {
        match &self.form {
            Form::Threshold { measure, .. }
            | Form::Share { measure, .. }
            | Form::Silence { measure, .. }
            | Form::FirstSeen { measure, .. }
            | Form::Deviation { measure, .. }
            | Form::ErrorGroups { measure, .. } => &measure.per,
            Form::Objective { .. } | Form::Unfinished { .. } => &[],
        }
    }

    /// What its values are.
    pub fn unit(&self) -> &'static str {
        match &self.form {
            Form::Threshold { .. } => "measured",
            Form::Share { .. } => "share",
            Form::Silence { .. } => "usual gaps",
            Form::FirstSeen { .. } => "new",
            Form::Deviation { .. } => "spreads",
            Form::Objective { .. } => "times the rate that is too fast",
            Form::Unfinished { .. } => "open too long",
            Form::ErrorGroups { .. } => "new or returned",
        }
    }
}

/// What a rule judges.
#[derive(Debug, Clone, PartialEq)]
#[allow(missing_docs)]
pub enum Form {
    Threshold { filter: Filter, measure: Measure, over_ns: i64 },
    Share { filter: Filter, measure: Measure, over_ns: i64, least: f64 },
    Silence { filter: Filter, measure: Measure },
    FirstSeen { filter: Filter, measure: Measure, unseen_ns: i64, over_ns: i64 },
    Deviation { filter: Filter, measure: Measure, over_ns: i64, least: f64, like_ns: i64 },
    Objective { filter: Filter, measure: Measure, target: f64, period_ns: i64 },
    Unfinished { begins: Filter, ends: Filter, measure: Measure, within_ns: i64 },
    ErrorGroups { filter: Filter, measure: Measure, new: bool, returned: bool },
}

/// Collects what is wrong.
struct Checks {
    form: &'static str,
    mistakes: Vec<DocumentMistake>,
    ties: Ties,
}

impl Checks {
    fn wrong(&mut self, field: &str, column: usize, message: impl Into<String>, cure: impl Into<String>) {
        let field = if self.form.is_empty() { field.to_owned() } else { format!("{}.{field}", self.form) };
        let (message, cure) = (message.into(), cure.into());
        self.mistakes.push(DocumentMistake { line: 0, column, field, message, cure });
    }

    fn filter(&mut self, field: &str, text: &str) -> Filter {
        match parse_filter(text) {
            Ok(mut filter) => {
                filter.tie_up(&self.ties);
                filter
            }
            Err(mistakes) => {
                for m in mistakes {
                    self.wrong(field, m.column, m.message, m.cure);
                }
                Filter::All
            }
        }
    }

    fn span(&mut self, field: &str, text: &str, otherwise: &str, (least_ns, most_ns): (i64, i64)) -> i64 {
        let text = if text.is_empty() { otherwise } else { text };
        match parse_duration_ns(text).filter(|ns| (least_ns as f64..=most_ns as f64).contains(ns)) {
            Some(ns) => ns as i64,
            None => {
                let (least, most) = (written(least_ns), written(most_ns));
                let why = format!("`{text}` is no duration from {least} to {most}");
                self.wrong(field, 0, why, "write one as 30s, 5m, 2h or 7d");
                least_ns.max(1)
            }
        }
    }

    fn measure(&mut self, text: &str, per: &[String]) -> Measure {
        let text = if text.is_empty() { "count" } else { text };
        let head = "measure ";
        let parsed = parse(&format!("{head}{text}"), &Context::utc(0));
        for m in parsed.mistakes {
            self.wrong("measure", m.column.saturating_sub(head.len()).max(1), m.message, m.cure);
        }
        let mut measure = parsed.query.measure.unwrap_or_default();
        let more =
            !measure.per.is_empty() || measure.every.is_some() || measure.having.is_some() || measure.top.is_some();
        if measure.aggregates.len() != 1 || more || parsed.query.over.is_some() {
            self.wrong("measure", 1, "a rule judges one figure", "write one aggregate, as count or p95(took)");
        } else if matches!(measure.aggregates[0].function, Function::First(_) | Function::Last(_)) {
            self.wrong("measure", 1, "first and last are no numbers", "take max(…) or min(…)");
        }
        measure.per = self.per(per);
        measure
    }

    fn per(&mut self, names: &[String]) -> Vec<Field> {
        if names.len() > MAX_PER {
            self.wrong("per", 0, format!("{} fields are too many", names.len()), format!("name {MAX_PER} at most"));
        }
        let fields = names.iter().take(MAX_PER).filter_map(|name| self.field("per", name));
        fields.collect()
    }

    fn field(&mut self, of: &str, name: &str) -> Option<Field> {
        let parsed = parse(&format!("measure count per {name}"), &Context::utc(0));
        let measure = parsed.query.measure.unwrap_or_default();
        let more = measure.every.is_some() || measure.having.is_some() || measure.top.is_some();
        let (per, more) = (measure.per, more || parsed.query.over.is_some());
        if !parsed.mistakes.is_empty() || per.len() != 1 || more {
            self.wrong(of, 1, format!("`{name}` names no field"), "write one as service or door.bank");
        }
        per.into_iter().next()
    }

    fn bound(&mut self, above: Option<f64>, below: Option<f64>) -> Bound {
        let (side, number) = match (above, below) {
            (Some(number), None) => (Side::Above, number),
            (None, Some(number)) => (Side::Below, number),
            _ => {
                self.wrong("above", 0, "a rule is raised above a number or below one", "give either above or below");
                (Side::Above, 0.0)
            }
        };
        if !number.is_finite() {
            self.wrong("above", 0, "the number is not finite", "write one as 20 or 0.05");
        }
        Bound { side, number }
    }

    fn word(&mut self, field: &str, text: &str, words: &[&str]) -> usize {
        let text = if text.is_empty() { words.first().copied().unwrap_or("") } else { text };
        words.iter().position(|word| *word == text).unwrap_or_else(|| {
            self.wrong(field, 1, format!("`{text}` is not known"), format!("write {}", words.join(" or ")));
            0
        })
    }
}

/// A duration as it is written.
fn written(ns: i64) -> String {
    written_duration_s(u32::try_from(ns / SECOND_NS).unwrap_or(u32::MAX))
}

/// `count` by fields.
fn counted(per: Vec<Field>) -> Measure {
    let mut measure = parse("measure count", &Context::utc(0)).query.measure.unwrap_or_default();
    measure.per = per;
    measure
}

/// The share of a filter, and how many there are.
fn shared(filter: Filter, per: Vec<Field>) -> Measure {
    let mut measure = parse("measure count, count", &Context::utc(0)).query.measure.unwrap_or_default();
    if let Some(first) = measure.aggregates.first_mut() {
        first.function = Function::Count(Some(filter));
    }
    measure.per = per;
    measure
}

const WINDOW: (i64, i64) = (5 * SECOND_NS, 7 * DAY_NS);

/// The step of a window: a tenth of it, between 5 s and a minute.
fn step_of(over_ns: i64) -> i64 {
    let step_s = (over_ns / SECOND_NS / 10).clamp(5, 60).min((over_ns / SECOND_NS).max(1));
    step_s * SECOND_NS
}

impl RuleDocument {
    /// Reads a document, TOML or JSON, and checks it; field names that are ties stand for their spellings.
    ///
    /// # Errors
    /// Every mistake, each with its line and column where it has one.
    pub fn read(text: &str, ties: &Ties) -> Result<Rule, Vec<DocumentMistake>> {
        let document = Self::parse(text).map_err(|m| vec![m])?;
        document.compile(ties).map_err(|mistakes| super::places::placed(text, mistakes))
    }

    /// Reads a document without checking what its fields say.
    ///
    /// # Errors
    /// The first mistake.
    pub fn parse(text: &str) -> Result<RuleDocument, DocumentMistake> {
        let wrong = |line, column, message: String, cure: &str| DocumentMistake {
            line,
            column,
            field: String::new(),
            message,
            cure: cure.to_owned(),
        };
        if text.len() > MAX_DOCUMENT_BYTES {
            let message = format!("{} bytes are more than a rule may have", text.len());
            return Err(wrong(0, 0, message, "shorten it; one file is one rule"));
        }
        if text.trim_start().starts_with('{') {
            return serde_json::from_str(text).map_err(|e| {
                let whole = e.to_string();
                let message = whole.split(" at line ").next().unwrap_or(&whole).to_owned();
                wrong(e.line(), e.column(), message, "compare with `calvex rule form`")
            });
        }
        toml::from_str(text).map_err(|e| {
            let (line, column) = e.span().map_or((0, 0), |span| super::places::line_and_column(text, span.start));
            wrong(line, column, e.message().trim().to_owned(), "compare with `calvex rule form`")
        })
    }

    /// The rule, or everything that is wrong with it; places are of fields alone.
    ///
    /// # Errors
    /// The mistakes.
    pub fn compile(&self, ties: &Ties) -> Result<Rule, Vec<DocumentMistake>> {
        let mut c = Checks { form: "", mistakes: Vec::new(), ties: ties.clone() };
        if self.name.trim().is_empty() || self.name.chars().count() > 128 {
            c.wrong("name", 1, "a rule's name has 1 to 128 letters", "name it after what goes wrong");
        }
        if self.notify.len() > MAX_NOTIFY {
            c.wrong("notify", 0, "there are too many contacts", format!("name {MAX_NOTIFY} at most"));
        }
        if self.note.len() > 4096 || self.runbook.len() > 512 {
            c.wrong("note", 0, "the note or the runbook's link is too long", "link to the rest");
        }
        // It is followed by whoever is woken: an address of the web, nothing that a browser would run.
        if !self.runbook.is_empty() && !["http://", "https://"].iter().any(|way| self.runbook.starts_with(way)) {
            c.wrong(
                "runbook",
                1,
                "the runbook is no address of the web",
                "write one as https://docs.fennmark.test/leases",
            );
        }
        let hold_ns = if self.hold.is_empty() { 0 } else { c.span("for", &self.hold, "", (0, 7 * DAY_NS)) };
        let delay_ns = c.span("delay", &self.delay, "30s", (0, 3600 * SECOND_NS));
        let late_ns = c.span("late", &self.late, "10m", (0, 14 * DAY_NS));
        let forms = [
            self.threshold.is_some(),
            self.share.is_some(),
            self.silence.is_some(),
            self.first_seen.is_some(),
            self.deviation.is_some(),
            self.objective.is_some(),
            self.unfinished.is_some(),
            self.error_group.is_some(),
        ];
        if forms.iter().filter(|is| **is).count() != 1 {
            c.wrong(
                "",
                0,
                "a rule has one form",
                "give one of [threshold], [share], [silence], [first-seen], [deviation], [objective], [unfinished], [error-group]",
            );
        }
        let (form, bound, step_ns) = self.form(&mut c);
        let document = self.clone();
        if c.mistakes.is_empty() {
            Ok(Rule { document, form, hold_ns, delay_ns, late_ns, step_ns, bound })
        } else {
            Err(c.mistakes)
        }
    }

    fn form(&self, c: &mut Checks) -> (Form, Bound, i64) {
        let above = |number: f64| Bound { side: Side::Above, number };
        if let Some(f) = &self.threshold {
            c.form = "threshold";
            let (filter, measure) = (c.filter("events", &f.events), c.measure(&f.measure, &f.per));
            let (over_ns, bound) = (c.span("over", &f.over, "", WINDOW), c.bound(f.above, f.below));
            return (Form::Threshold { filter, measure, over_ns }, bound, step_of(over_ns));
        }
        if let Some(f) = &self.share {
            c.form = "share";
            let (filter, of) = (c.filter("events", &f.events), c.filter("of", &f.of));
            if f.of.trim().is_empty() {
                c.wrong("of", 1, "every event is the whole, no share", "say which, as severity>=error");
            }
            if !(0.0..1.0).contains(&f.above) {
                c.wrong("above", 0, "a share lies from 0 to 1", "write 0.05 for a twentieth");
            }
            let per = c.per(&f.per);
            let over_ns = c.span("over", &f.over, "", WINDOW);
            let least = f.least.unwrap_or(20) as f64;
            return (
                Form::Share { filter, measure: shared(of, per), over_ns, least },
                above(f.above),
                step_of(over_ns),
            );
        }
        if let Some(f) = &self.silence {
            c.form = "silence";
            let (filter, per) = (c.filter("events", &f.events), c.per(&f.per));
            let times = f.times.unwrap_or(3.0);
            if !(1.0..=1000.0).contains(&times) {
                c.wrong("times", 0, format!("{times} times the usual gap is no silence"), "write 3, or 1 to 1000");
            }
            return (Form::Silence { filter, measure: counted(per) }, above(times), 30 * SECOND_NS);
        }
        if let Some(f) = &self.first_seen {
            c.form = "first-seen";
            let filter = c.filter("events", &f.events);
            let per = c.field("what", &f.what).into_iter().collect();
            let unseen_ns = c.span("unseen", &f.unseen, "7d", (3600 * SECOND_NS, 90 * DAY_NS));
            let over_ns = c.span("over", &f.over, "1h", (MINUTE_NS, 7 * DAY_NS));
            let form = Form::FirstSeen { filter, measure: counted(per), unseen_ns, over_ns };
            return (form, above(0.0), MINUTE_NS);
        }
        if let Some(f) = &self.deviation {
            c.form = "deviation";
            let (filter, measure) = (c.filter("events", &f.events), c.measure(&f.measure, &f.per));
            let over_ns = c.span("over", &f.over, "", (30 * SECOND_NS, 6 * 3600 * SECOND_NS));
            let bound = c.bound(f.above, f.below.map(|spreads| -spreads));
            if bound.number.abs() < 1.0 {
                c.wrong("above", 0, "less than one spread happens all the time", "write 4, or 1 at least");
            }
            let like_ns = [7 * DAY_NS, DAY_NS][c.word("like", &f.like, &["week", "day"])];
            let least = f.least.unwrap_or(0.0);
            let step_ns = step_of(over_ns).max(MINUTE_NS.min(over_ns));
            return (Form::Deviation { filter, measure, over_ns, least, like_ns }, bound, step_ns);
        }
        if let Some(f) = &self.objective {
            c.form = "objective";
            let (filter, good) = (c.filter("all", &f.all), c.filter("good", &f.good));
            if !(50.0..100.0).contains(&f.percent) {
                c.wrong("percent", 0, "an objective lies from 50 to below 100", "write 99.5");
            }
            let period_ns = c.span("period", &f.period, "30d", (DAY_NS, 400 * DAY_NS));
            let measure = shared(good, Vec::new());
            let form = Form::Objective { filter, measure, target: f.percent / 100.0, period_ns };
            return (form, above(1.0), MINUTE_NS);
        }
        if let Some(f) = &self.unfinished {
            c.form = "unfinished";
            let (begins, ends) = (c.filter("begins", &f.begins), c.filter("ends", &f.ends));
            let per = c.field("tie", &f.tie).into_iter().collect();
            let within_ns = c.span("within", &f.within, "", (5 * SECOND_NS, 7 * DAY_NS));
            let number = f.above.unwrap_or(0) as f64;
            let form = Form::Unfinished { begins, ends, measure: counted(per), within_ns };
            return (form, above(number), step_of(within_ns));
        }
        let f = self.error_group.clone().unwrap_or_default();
        c.form = "error-group";
        let filter = c.filter("events", &f.events);
        let which = c.word("which", &f.which, &["both", "new", "returned"]);
        let per = c.field("which", "error_group").into_iter().collect();
        let form = Form::ErrorGroups { filter, measure: counted(per), new: which != 2, returned: which != 1 };
        (form, above(0.0), MINUTE_NS)
    }
}

impl Rule {
    /// The value of a group of which there is no event.
    pub fn empty_value(&self) -> f64 {
        match &self.form {
            Form::Threshold { measure, .. } => default_of(measure),
            Form::Share { .. } | Form::Silence { .. } | Form::Deviation { .. } => f64::NAN,
            _ => 0.0,
        }
    }
}

/// What a figure is where there is no event.
pub(super) fn default_of(measure: &Measure) -> f64 {
    let counts = |f: &Function| matches!(f, Function::Count(_) | Function::Rate | Function::Distinct(_));
    if measure.aggregates.first().is_some_and(|a| counts(&a.function)) { 0.0 } else { f64::NAN }
}
