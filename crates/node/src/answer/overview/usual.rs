//! The figures of a service, what is usual of them, and what strays from it.

use super::standing::WINDOW_S;
use calvex_wire::api::ServiceFigures;

/// The middle of each figure by itself.
pub(super) fn middle(list: &[ServiceFigures]) -> Option<ServiceFigures> {
    let of = |figure: fn(&ServiceFigures) -> Option<f64>| {
        let mut all: Vec<f64> = list.iter().filter_map(figure).collect();
        all.sort_by(f64::total_cmp);
        all.get(all.len() / 2).copied()
    };
    Some(ServiceFigures {
        rate: of(|f| Some(f.rate))?,
        error_share: of(|f| Some(f.error_share))?,
        p95_ms: of(|f| f.p95_ms),
    })
}

/// What is far from the usual, in words. Small numbers stray by chance and are not reported.
pub(super) fn strays(now: &ServiceFigures, usual: &ServiceFigures) -> Vec<String> {
    let mut reported = Vec::new();
    let times = |now: f64, usual: f64| format!("{:.1} times the usual", now / usual);
    if now.error_share >= 0.01 && now.error_share > 2.0 * usual.error_share {
        reported.push(if usual.error_share > 0.0 {
            format!("{} share of errors", times(now.error_share, usual.error_share))
        } else {
            "errors, where there are none usually".to_owned()
        });
    }
    if let (Some(now), Some(usual)) = (now.p95_ms, usual.p95_ms)
        && now > 1.5 * usual
        && now - usual > 5.0
    {
        reported.push(format!("{} p95", times(now, usual)));
    }
    let events = now.rate * WINDOW_S as f64;
    if now.rate > 2.0 * usual.rate && events > 100.0 {
        reported.push(format!("{} rate", times(now.rate, usual.rate)));
    } else if now.rate < 0.5 * usual.rate && usual.rate * WINDOW_S as f64 > 100.0 {
        reported.push(format!("only {:.0} % of the usual rate", now.rate / usual.rate * 100.0));
    }
    reported
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(rate: f64, error_share: f64, p95_ms: Option<f64>) -> ServiceFigures {
        ServiceFigures { rate, error_share, p95_ms }
    }

    #[test]
    fn what_strays_is_told_in_words() {
        let usual = of(10.0, 0.01, Some(100.0));
        assert!(strays(&of(11.0, 0.012, Some(120.0)), &usual).is_empty());
        let reported = strays(&of(30.0, 0.05, Some(250.0)), &usual);
        assert_eq!(
            reported,
            ["5.0 times the usual share of errors", "2.5 times the usual p95", "3.0 times the usual rate"]
        );
        assert_eq!(strays(&of(1.0, 0.0, None), &usual), ["only 10 % of the usual rate"]);
        assert_eq!(strays(&of(10.0, 0.02, None), &of(10.0, 0.0, None)), ["errors, where there are none usually"]);
        // Two events instead of one are no news.
        assert!(strays(&of(0.002, 0.0, None), &of(0.001, 0.0, None)).is_empty());
    }

    #[test]
    fn the_middle_is_of_each_figure() {
        let list = [of(1.0, 0.5, None), of(9.0, 0.1, Some(7.0)), of(5.0, 0.2, None)];
        assert_eq!(middle(&list), Some(of(5.0, 0.2, Some(7.0))));
        assert_eq!(middle(&[]), None);
    }
}
