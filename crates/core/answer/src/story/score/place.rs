//! Where everything stands: services in columns, spans as bars (many like siblings as one), events on their bar, and all
//! of it in rows, a moment each, with long waits folded.

use super::critical::Critical;
use super::forest::{Forest, SLACK_NS};
use super::{Arrow, ArrowKind, Bar, Bundle, ColumnOf, MAX_COLUMNS, MAX_SIBLINGS, Outcome, Row, RowKind, ScoreOptions};
use calvex_language::model::{Kind, to_hex};
use std::collections::{BTreeMap, HashMap};

/// A wait of all services is folded where it is longer than this and than a tenth of the whole.
const FOLD_NS: i64 = 1_000_000_000;

/// The drawing.
pub(super) struct Placed {
    pub columns: Vec<ColumnOf>,
    pub rows: Vec<Row>,
    pub bars: Vec<Bar>,
    pub arrows: Vec<Arrow>,
}

/// What comes first at one moment: the last event of a bar, ends, beginnings, other events, and ends of what took no time.
const HAPPENS_LAST: u8 = 0;
const ENDS: u8 = 1;
const STARTS: u8 = 2;
const HAPPENS: u8 = 3;
const ENDS_AT_ONCE: u8 = 4;

/// Something that takes a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Item {
    Start(usize),
    Event(usize),
    End(usize),
}

/// A bar before it has rows.
struct Drawn {
    node: usize,
    parent: Option<usize>,
    start_ns: i64,
    end_ns: i64,
    bundle: Option<Bundle>,
}

pub(super) fn place(forest: &Forest, critical: &Critical, options: &ScoreOptions) -> Placed {
    let (drawn, bar_of) = bars(forest, options);
    let column_of = columns(forest, options);
    let column = |service: &str| column_of.get(service).copied().unwrap_or(0);
    let mut items: Vec<(i64, u8, i64, Item)> = Vec::new();
    // A bar never begins before its parent, whatever the clocks say.
    let mut begins: Vec<i64> = Vec::with_capacity(drawn.len());
    for (n, bar) in drawn.iter().enumerate() {
        let at = bar.parent.and_then(|parent| begins.get(parent)).map_or(bar.start_ns, |p| bar.start_ns.max(*p));
        begins.push(at);
        let depth = forest.nodes[bar.node].depth as i64;
        items.push((at, STARTS, depth, Item::Start(n)));
        // Of bars that end together the innermost ends first.
        let ends = if bar.end_ns > at { ENDS } else { ENDS_AT_ONCE };
        items.push((bar.end_ns.max(at), ends, -depth, Item::End(n)));
    }
    let mut stands: HashMap<usize, usize> = HashMap::new();
    for (event, at_ns) in forest.times.iter().enumerate() {
        if forest.events[event].kind == Kind::Span {
            continue;
        }
        let bar = forest.bar_of_event(event).and_then(|node| bar_of[node]);
        let (mut at, mut rank) = (*at_ns, HAPPENS);
        if let Some(bar) = bar {
            stands.insert(event, bar);
            // What a coarse clock puts a moment before its bar happens in it.
            if (begins[bar] - SLACK_NS..begins[bar]).contains(&at) {
                at = begins[bar];
            }
            if at >= drawn[bar].end_ns {
                rank = HAPPENS_LAST;
            }
        }
        items.push((at, rank, event as i64, Item::Event(event)));
    }
    items.sort_unstable();

    let start_ns = items.first().map_or(0, |(at_ns, _, _, _)| *at_ns);
    let fold_ns = FOLD_NS.max(forest.took_ns() / 10);
    let mut rows: Vec<Row> = Vec::with_capacity(items.len());
    let mut spans = vec![(0usize, 0usize); drawn.len()];
    let mut arrows = Vec::new();
    let mut before_ns = None;
    for (at_ns, _, _, item) in items {
        let waited = before_ns.map_or(0, |before| at_ns - before);
        let fold = (waited > fold_ns).then_some(waited);
        let row = rows.len();
        let (kind, bar, event) = match item {
            Item::Start(bar) => {
                spans[bar] = (row, row);
                (RowKind::Start, Some(bar), forest.nodes[drawn[bar].node].event)
            }
            Item::Event(event) => (RowKind::Event, stands.get(&event).copied(), event),
            Item::End(bar) => {
                let node = &forest.nodes[drawn[bar].node];
                let service = &forest.span(drawn[bar].node).service;
                let returns = drawn[bar].parent.is_none_or(|p| forest.span(drawn[p].node).service != *service);
                // What nothing stood in, and what only returns to its own service, ends in the row before.
                if row == spans[bar].0 + 1 || !(returns || node.failed) {
                    spans[bar].1 = row.saturating_sub(1);
                    before_ns = Some(at_ns.max(before_ns.unwrap_or(at_ns)));
                    continue;
                }
                spans[bar].1 = row;
                (RowKind::End, Some(bar), node.event)
            }
        };
        let stands_in = match kind {
            RowKind::Event => column(&forest.events[event].service),
            _ => bar.map_or(0, |bar| column(&forest.span(drawn[bar].node).service)),
        };
        rows.push(Row { kind, at_ns: at_ns - start_ns, column: stands_in, bar, event, fold_ns: fold });
        before_ns = Some(at_ns);
    }
    let bars = finished(forest, critical, &drawn, &spans, &column);
    for (n, bar) in bars.iter().enumerate() {
        arrows.extend(arrows_of(forest, &drawn, &bars, &bar_of, &rows, n, bar));
    }
    arrows.sort_by_key(|arrow: &Arrow| arrow.row);
    Placed { columns: column_list(forest, &column_of, &bars, &rows), rows, bars, arrows }
}

/// The bars in the order of their parents, and by node the bar it is drawn in.
fn bars(forest: &Forest, options: &ScoreOptions) -> (Vec<Drawn>, Vec<Option<usize>>) {
    let mut drawn: Vec<Drawn> = Vec::new();
    let mut bar_of: Vec<Option<usize>> = vec![None; forest.nodes.len()];
    let mut siblings: HashMap<(Option<usize>, &str, &str), Vec<usize>> = HashMap::new();
    for (n, node) in forest.nodes.iter().enumerate() {
        let span = forest.span(n);
        siblings.entry((node.parent, span.service.as_str(), span.message.as_str())).or_default().push(n);
    }
    let mut bundled: HashMap<(Option<usize>, &str, &str), usize> = HashMap::new();
    for (n, node) in forest.nodes.iter().enumerate() {
        let parent = node.parent.and_then(|parent| bar_of[parent]);
        // What stands below a bundle is drawn in it.
        if let Some(parent) = parent
            && drawn[parent].bundle.is_some()
        {
            bar_of[n] = Some(parent);
            continue;
        }
        let span = forest.span(n);
        let group = (node.parent, span.service.as_str(), span.message.as_str());
        let like = &siblings[&group];
        let first = like.first().copied().unwrap_or(n);
        let key = forest.span(first).span.map_or_else(|| format!("{first}"), |span| to_hex(&span));
        if like.len() <= MAX_SIBLINGS || options.open.contains(&key) {
            bar_of[n] = Some(drawn.len());
            drawn.push(Drawn { node: n, parent, start_ns: node.start_ns, end_ns: node.end_ns, bundle: None });
            continue;
        }
        let bar = *bundled.entry(group).or_insert_with(|| {
            let each = || like.iter().map(|n| &forest.nodes[*n]);
            drawn.push(Drawn {
                node: n,
                parent,
                start_ns: each().map(|node| node.start_ns).min().unwrap_or(node.start_ns),
                end_ns: each().map(|node| node.end_ns).max().unwrap_or(node.end_ns),
                bundle: Some(Bundle {
                    key: key.clone(),
                    count: like.len(),
                    failed: each().filter(|node| node.failed).count(),
                    total_ns: each().map(|node| node.end_ns - node.start_ns).sum(),
                    slowest_ns: each().map(|node| node.end_ns - node.start_ns).max().unwrap_or(0),
                }),
            });
            drawn.len() - 1
        });
        bar_of[n] = Some(bar);
    }
    (drawn, bar_of)
}

/// By event: how deep it stands, a span by its parents, any other event behind all spans. Of what happens at one moment a
/// caller comes before whom it calls.
fn depths(forest: &Forest) -> Vec<usize> {
    let mut depths = vec![usize::MAX; forest.events.len()];
    forest.nodes.iter().for_each(|node| depths[node.event] = node.depth);
    depths
}

/// By service: its column. Services stand in the order in which they were first involved; where there are too many, those
/// least involved share the last column.
fn columns<'a>(forest: &Forest<'a>, options: &ScoreOptions) -> BTreeMap<&'a str, usize> {
    let mut order: Vec<(i64, usize, usize)> =
        forest.times.iter().zip(depths(forest)).enumerate().map(|(n, (at, depth))| (*at, depth, n)).collect();
    order.sort_unstable();
    let mut services: Vec<(&str, usize)> = Vec::new();
    let mut at: HashMap<&str, usize> = HashMap::new();
    for (_, _, event) in order {
        let service = forest.events[event].service.as_str();
        let slot = *at.entry(service).or_insert_with(|| {
            services.push((service, 0));
            services.len() - 1
        });
        services[slot].1 += 1;
    }
    if services.len() <= MAX_COLUMNS || options.every_column {
        return services.iter().enumerate().map(|(n, (service, _))| (*service, n)).collect();
    }
    let mut most: Vec<(usize, usize)> = services.iter().enumerate().map(|(n, (_, events))| (*events, n)).collect();
    most.sort_by(|a, b| b.0.cmp(&a.0).then(a.1.cmp(&b.1)));
    let mut own: Vec<usize> = most.into_iter().take(MAX_COLUMNS - 1).map(|(_, n)| n).collect();
    own.sort_unstable();
    let column = |n: usize| own.iter().position(|own| *own == n).unwrap_or(MAX_COLUMNS - 1);
    services.iter().enumerate().map(|(n, (service, _))| (*service, column(n))).collect()
}

/// The bars with their rows, each as far to the right as others in its column leave room.
fn finished(
    forest: &Forest,
    critical: &Critical,
    drawn: &[Drawn],
    spans: &[(usize, usize)],
    column: &dyn Fn(&str) -> usize,
) -> Vec<Bar> {
    let mut bars: Vec<Bar> = drawn
        .iter()
        .zip(spans)
        .map(|(bar, (from_row, to_row))| {
            let (node, span) = (&forest.nodes[bar.node], forest.span(bar.node));
            let failed = bar.bundle.as_ref().map_or(node.failed, |bundle| bundle.failed > 0);
            Bar {
                column: column(&span.service),
                slot: 0,
                from_row: *from_row,
                to_row: (*to_row).max(*from_row),
                event: node.event,
                parent: bar.parent,
                parent_missing: node.parent_missing,
                operation: span.message.clone(),
                outcome: match (failed, node.open) {
                    (true, _) => Outcome::Failed,
                    (false, true) => Outcome::Open,
                    (false, false) => Outcome::Well,
                },
                took_ns: (!node.open).then_some(bar.end_ns - bar.start_ns),
                self_ns: critical.self_ns[bar.node],
                critical: critical.on_path[bar.node],
                bundle: bar.bundle.clone(),
            }
        })
        .collect();
    let mut order: Vec<usize> = (0..bars.len()).collect();
    order.sort_by_key(|n| bars[*n].from_row);
    // By column and slot: the last row that is taken.
    let mut taken: HashMap<(usize, usize), usize> = HashMap::new();
    for n in order {
        let column = bars[n].column;
        let within = bars[n].parent.filter(|parent| bars[*parent].column == column);
        let mut slot = within.map_or(0, |parent| bars[parent].slot + 1);
        while taken.get(&(column, slot)).is_some_and(|row| *row >= bars[n].from_row) {
            slot += 1;
        }
        bars[n].slot = slot;
        taken.insert((column, slot), bars[n].to_row);
    }
    bars
}

fn arrows_of(
    forest: &Forest,
    drawn: &[Drawn],
    bars: &[Bar],
    bar_of: &[Option<usize>],
    rows: &[Row],
    n: usize,
    bar: &Bar,
) -> Vec<Arrow> {
    let mut arrows = Vec::new();
    let arrow = |kind, from, to, row, against_clock| Arrow { kind, bar: n, from, to, row, against_clock };
    let caller = bar.parent.map(|parent| (parent, bars[parent].column)).filter(|(_, column)| *column != bar.column);
    if let Some((parent, column)) = caller {
        let early = drawn[n].start_ns < drawn[parent].start_ns;
        arrows.push(arrow(ArrowKind::Call, column, bar.column, bar.from_row, early));
        if rows.get(bar.to_row).is_some_and(|row| row.kind == RowKind::End && row.bar == Some(n)) {
            let late = drawn[n].end_ns > drawn[parent].end_ns && !forest.nodes[drawn[n].node].queued;
            arrows.push(arrow(ArrowKind::Return, bar.column, column, bar.to_row, late));
        }
    }
    let linked = forest.nodes[drawn[n].node].link.and_then(|node| bar_of[node]).filter(|linked| *linked != n);
    if let Some(linked) = linked
        && caller.is_none()
        && bars[linked].column != bar.column
    {
        let early = drawn[n].start_ns < drawn[linked].start_ns;
        arrows.push(arrow(ArrowKind::Link, bars[linked].column, bar.column, bar.from_row, early));
    }
    arrows
}

fn column_list(forest: &Forest, column_of: &BTreeMap<&str, usize>, bars: &[Bar], rows: &[Row]) -> Vec<ColumnOf> {
    let count = column_of.values().max().map_or(0, |most| most + 1);
    let mut columns: Vec<ColumnOf> =
        (0..count).map(|_| ColumnOf { services: Vec::new(), bars: 0, events: 0, slots: 0 }).collect();
    let mut order: Vec<(i64, usize, &str)> = forest
        .times
        .iter()
        .zip(depths(forest))
        .zip(forest.events)
        .map(|((at, depth), event)| (*at, depth, event.service.as_str()))
        .collect();
    order.sort_unstable();
    for (_, _, service) in order {
        let column = &mut columns[column_of[service]];
        if !column.services.iter().any(|known| known == service) {
            column.services.push(service.to_owned());
        }
    }
    for bar in bars {
        let column = &mut columns[bar.column];
        column.bars += 1;
        column.slots = column.slots.max(bar.slot + 1);
    }
    rows.iter().filter(|row| row.kind == RowKind::Event).for_each(|row| columns[row.column].events += 1);
    columns
}
