//! A rule in words.

use super::document::RuleDocument;

impl RuleDocument {
    /// The rule in one sentence.
    pub fn sentence(&self) -> String {
        let events = |text: &str| if text.is_empty() { "events".to_owned() } else { format!("`{text}`") };
        let figure = |text: &str| if text.is_empty() { "count" } else { text }.to_owned();
        let per =
            |names: &[String]| if names.is_empty() { String::new() } else { format!(" per {}", names.join(", ")) };
        let bound = |above: Option<f64>, below: Option<f64>| match (above, below) {
            (_, Some(n)) => format!("below {n}"),
            (n, None) => format!("above {}", n.unwrap_or_default()),
        };
        let or = |text: &str, otherwise: &str| if text.is_empty() { otherwise.to_owned() } else { text.to_owned() };
        let what = if let Some(f) = &self.threshold {
            let is = bound(f.above, f.below);
            format!("{} of {} over {}{} is {is}", figure(&f.measure), events(&f.events), f.over, per(&f.per))
        } else if let Some(f) = &self.share {
            let share = f.above * 100.0;
            format!("more than {share} % of {} over {}{} are `{}`", events(&f.events), f.over, per(&f.per), f.of)
        } else if let Some(f) = &self.silence {
            let times = f.times.unwrap_or(3.0);
            format!("{}{} have not come for {times} times their usual gap", events(&f.events), per(&f.per))
        } else if let Some(f) = &self.first_seen {
            format!("{} have a {} that was not there for {}", events(&f.events), f.what, or(&f.unseen, "7d"))
        } else if let Some(f) = &self.deviation {
            let is = bound(f.above, f.below);
            let like = or(&f.like, "week");
            let figure = figure(&f.measure);
            let events = events(&f.events);
            format!(
                "{figure} of {events} over {}{} is {is} spreads of its usual at this time of the {like}",
                f.over,
                per(&f.per)
            )
        } else if let Some(f) = &self.objective {
            format!("the budget of {} % of `{}` being `{}` burns too fast", f.percent, f.all, f.good)
        } else if let Some(f) = &self.unfinished {
            let above = f.above.unwrap_or(0);
            format!("more than {above} {} of `{}` have no `{}` within {}", f.tie, f.begins, f.ends, f.within)
        } else if let Some(f) = &self.error_group {
            let which = or(&f.which, "both");
            let which = if which == "both" { "new or returned" } else { &which };
            format!("{} have an error group that is {which}", events(&f.events))
        } else {
            "nothing is judged".to_owned()
        };
        let hold = if self.hold.is_empty() { String::new() } else { format!(" for {}", self.hold) };
        format!("when {what}{hold}")
    }

    /// The name of its form.
    pub fn form_name(&self) -> &'static str {
        let forms = [
            (self.threshold.is_some(), "threshold"),
            (self.share.is_some(), "share"),
            (self.silence.is_some(), "silence"),
            (self.first_seen.is_some(), "first-seen"),
            (self.deviation.is_some(), "deviation"),
            (self.objective.is_some(), "objective"),
            (self.unfinished.is_some(), "unfinished"),
            (self.error_group.is_some(), "error-group"),
        ];
        forms.iter().find(|(is, _)| *is).map_or("none", |(_, name)| name)
    }
}
