//! The table of a `measure`, for people and as NDJSON.

use crate::Ended;
use crate::commands::search::check_whole;
use crate::output;
use anyhow::Result;
use calvex_wire::api::{GroupAnswer, MeasureAnswer};
use serde_json::{Map, Value};

/// The bars of a line of steps, lowest to highest.
const BARS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
/// Steps shown as one line of bars at most; more are drawn together.
const MAX_BARS: usize = 60;

/// Prints the figures. Something was found where an event passed.
///
/// # Errors
/// Where output fails, or the answer lacks something.
pub fn show(answer: &MeasureAnswer, as_json: bool) -> Result<Ended> {
    if as_json {
        answer.groups.iter().try_for_each(|g| lines(answer, g))?;
    } else {
        people(answer)?;
    }
    if let Some(limited) = &answer.limited {
        eprintln!("{limited}");
    }
    check_whole(&answer.explain)?;
    // Without `per` there is one group always; of no events its figures are zero or missing.
    let reports = |v: &Value| !v.is_null() && v.as_f64() != Some(0.0);
    let found = answer.groups.iter().any(|g| g.total.iter().any(reports));
    Ok(if found { Ended::Well } else { Ended::Nothing })
}

/// A group as one object, or with `every` an object a step.
fn lines(answer: &MeasureAnswer, group: &GroupAnswer) -> Result<()> {
    let row = |time: Option<&str>, figures: &[Value]| {
        let mut row = Map::new();
        row.extend(time.map(|t| ("time".to_owned(), Value::from(t))));
        row.extend(answer.per.iter().cloned().zip(group.values.iter().cloned()));
        row.extend(answer.aggregates.iter().map(|a| a.name.clone()).zip(figures.iter().cloned()));
        output::json_line(&Value::Object(row).to_string())
    };
    if answer.steps.is_empty() {
        return row(None, &group.total);
    }
    answer.steps.iter().zip(&group.steps).try_for_each(|(step, figures)| row(Some(&step.from), figures))
}

fn people(answer: &MeasureAnswer) -> Result<()> {
    let mut head: Vec<String> = answer.per.clone();
    head.extend(answer.aggregates.iter().map(|a| {
        let unit = a.unit.as_deref().map_or_else(String::new, |u| format!(" ({u})"));
        let about = if a.error.is_some() { "≈ " } else { "" };
        format!("{about}{}{unit}", a.name)
    }));
    if !answer.steps.is_empty() {
        head.push(format!("{} by step", answer.aggregates.first().map_or("", |a| &a.name)));
    }
    let rows = answer.groups.iter().map(|group| {
        let mut row: Vec<String> = group.values.iter().map(|v| value(answer, v)).collect();
        row.extend(group.total.iter().map(figure));
        if !answer.steps.is_empty() {
            let first = |s: &Vec<Value>| s.first().and_then(Value::as_f64).unwrap_or(0.0);
            row.push(bars(&group.steps.iter().map(first).collect::<Vec<_>>()));
        }
        row
    });
    let head: Vec<&str> = head.iter().map(String::as_str).collect();
    output::table(&head, rows.collect())?;
    for column in answer.aggregates.iter().filter(|a| a.error.is_some()) {
        let percent = column.error.unwrap_or(0.0) * 100.0;
        eprintln!("{}: an estimate, within {percent:.1} %", column.name);
    }
    Ok(())
}

fn value(answer: &MeasureAnswer, value: &Value) -> String {
    match value {
        Value::Null => "(missing)".to_owned(),
        Value::String(s) => answer.shapes.get(s).unwrap_or(s).clone(),
        other => other.to_string(),
    }
}

/// A figure with as many digits as mean something.
fn figure(value: &Value) -> String {
    match value {
        Value::Null => "–".to_owned(),
        Value::Number(n) if n.is_f64() => {
            let n = n.as_f64().unwrap_or(0.0);
            let digits = if n.abs() >= 100.0 || n.fract() == 0.0 {
                0
            } else if n.abs() >= 1.0 {
                2
            } else {
                // Three that mean something, however small it is.
                (2 - n.abs().log10().floor() as i32).clamp(0, 15) as usize
            };
            format!("{n:.digits$}")
        }
        Value::String(s) => s.clone(),
        other => other.to_string(),
    }
}

/// Numbers as one line of bars.
pub fn bars(numbers: &[f64]) -> String {
    let together = numbers.len().div_ceil(MAX_BARS).max(1);
    let drawn: Vec<f64> = numbers.chunks(together).map(|c| c.iter().copied().fold(0.0, f64::max)).collect();
    let most = drawn.iter().copied().fold(0.0, f64::max);
    let bar = |n: &f64| if *n <= 0.0 { ' ' } else { BARS[((n / most * 7.0).round() as usize).min(7)] };
    drawn.iter().map(bar).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn figures_and_bars() {
        assert_eq!(
            ["0.0123", "0.500", "-0.0000123", "14.20", "1234", "7", "–"],
            [json!(0.01234), json!(0.5), json!(-0.00001234), json!(14.2), json!(1234.4), json!(7), Value::Null]
                .map(|v| figure(&v))
                .each_ref()
                .map(String::as_str)
        );
        assert_eq!(bars(&[0.0, 1.0, 4.0, 8.0]), " ▂▅█");
    }
}
