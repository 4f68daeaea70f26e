//! Rows of a page as lines of JSON, written from the columns without events in between. A line is, byte for byte, the
//! answer form of its event (`calvex_language::model::answer_json`); a property test holds the two against each other.

use calvex_language::error::{CoreError, Result};
use calvex_language::model::rules_of;
use calvex_language::model::shape;
use calvex_language::model::time::format_utc;
use calvex_language::model::{EventId, Kind, Severity, Status, answer_json, answer_with_sent};
use calvex_storage::columns::{
    BuiltinColumn, Column, ColumnKey, FieldType, PageRead, Values, field_value, materialise,
};
use hashbrown::HashMap;
use std::sync::Arc;

/// Lines of some rows: all bytes, and where each line ends. Lines end with LF.
#[derive(Debug, Default, PartialEq)]
pub(super) struct Lines {
    pub bytes: Vec<u8>,
    pub ends: Vec<u32>,
}

/// A column, and where its next value stands; asked for rows in ascending order.
struct Cursor {
    column: Arc<Column>,
    at: usize,
}

impl Cursor {
    /// Where in the column's values the row has its own.
    fn index(&mut self, row: usize) -> Option<usize> {
        let Some(present) = &self.column.present else { return Some(row) };
        while present.get(self.at).is_some_and(|r| (*r as usize) < row) {
            self.at += 1;
        }
        (present.get(self.at) == Some(&(row as u32))).then_some(self.at)
    }

    fn int(&mut self, row: usize) -> Option<i64> {
        let index = self.index(row)?;
        match &self.column.values {
            Values::Ints(v) => v.get(index).copied(),
            _ => None,
        }
    }

    fn bytes(&mut self, row: usize) -> Option<&[u8]> {
        let index = self.index(row)?;
        match &self.column.values {
            Values::Blobs { dictionary, codes } => Some(dictionary.get(*codes.get(index)? as usize)),
            _ => None,
        }
    }

    fn text(&mut self, row: usize) -> Option<&str> {
        let index = self.index(row)?;
        match &self.column.values {
            Values::Texts { dictionary, codes } => Some(dictionary.get(*codes.get(index)? as usize)),
            _ => None,
        }
    }
}

/// A field column, and the names of the objects it stands in, as JSON.
struct FieldCursor {
    cursor: Cursor,
    kind: FieldType,
    segments: Vec<Vec<u8>>,
}

/// Writes `rows` (ascending), with what was sent below `sent` where that is asked.
///
/// # Errors
/// Where a column cannot be read.
pub(super) fn write_lines(page: &dyn PageRead, rows: &[usize], lane: &str, sent: bool) -> Result<Lines> {
    let overflows = page.keys().contains(&ColumnKey::Builtin(BuiltinColumn::Overflow));
    if sent || overflows && page.builtin(BuiltinColumn::Overflow)?.is_some() {
        return write_slowly(page, rows, lane, sent);
    }
    let own = |own| Ok::<_, CoreError>(page.builtin(own)?.map(|column| Cursor { column, at: 0 }));
    let mut writer = Writer {
        out: Vec::with_capacity(rows.len() * 512),
        second: None,
        lane: json_text(lane),
        time: own(BuiltinColumn::Time)?,
        arrived: own(BuiltinColumn::Arrived)?,
        sent_time: own(BuiltinColumn::SentTime)?,
        origin: own(BuiltinColumn::IdOrigin)?,
        seq: own(BuiltinColumn::IdSeq)?,
        ordinal: own(BuiltinColumn::IdOrdinal)?,
        severity: own(BuiltinColumn::Severity)?,
        kind: own(BuiltinColumn::Kind)?,
        took: own(BuiltinColumn::Took)?,
        status: own(BuiltinColumn::Status)?,
        sender: own(BuiltinColumn::Sender)?,
        service: own(BuiltinColumn::Service)?,
        host: own(BuiltinColumn::Host)?,
        message: own(BuiltinColumn::Message)?,
        shapes: HashMap::new(),
        ids: [
            (own(BuiltinColumn::Trace)?, "trace"),
            (own(BuiltinColumn::Span)?, "span"),
            (own(BuiltinColumn::Parent)?, "parent"),
        ],
        transformed: own(BuiltinColumn::Transformed)?,
        fields: Vec::new(),
    };
    for (index, key) in page.keys().iter().enumerate() {
        if let ColumnKey::Field(path, kind) = key
            && let Some(column) = page.column(index)?
        {
            let segments = path.segments().map(|s| json_text(&s)).collect();
            writer.fields.push(FieldCursor { cursor: Cursor { column, at: 0 }, kind: *kind, segments });
        }
    }
    let mut ends = Vec::with_capacity(rows.len());
    for row in rows {
        writer.line(*row)?;
        ends.push(writer.out.len() as u32);
    }
    Ok(Lines { bytes: writer.out, ends })
}

/// By way of the events: for pages with more columns than a page holds, which are rare, and for what was sent.
fn write_slowly(page: &dyn PageRead, rows: &[usize], lane: &str, sent: bool) -> Result<Lines> {
    let form = if sent { answer_with_sent } else { answer_json };
    let mut lines = Lines::default();
    for event in materialise(page, rows)? {
        write_json(&mut lines.bytes, &form(&event, lane));
        lines.bytes.push(b'\n');
        lines.ends.push(lines.bytes.len() as u32);
    }
    Ok(lines)
}

struct Writer {
    out: Vec<u8>,
    /// The second written last, and its text up to the fraction.
    second: Option<(i64, String)>,
    lane: Vec<u8>,
    time: Option<Cursor>,
    arrived: Option<Cursor>,
    sent_time: Option<Cursor>,
    origin: Option<Cursor>,
    seq: Option<Cursor>,
    ordinal: Option<Cursor>,
    severity: Option<Cursor>,
    kind: Option<Cursor>,
    took: Option<Cursor>,
    status: Option<Cursor>,
    sender: Option<Cursor>,
    service: Option<Cursor>,
    host: Option<Cursor>,
    message: Option<Cursor>,
    /// Ids of shapes by the codes of their templates.
    shapes: HashMap<u32, String>,
    ids: [(Option<Cursor>, &'static str); 3],
    transformed: Option<Cursor>,
    fields: Vec<FieldCursor>,
}

fn damaged(what: &str) -> CoreError {
    CoreError::damaged("a page", what)
}

fn int_of(cursor: &mut Option<Cursor>, row: usize) -> i64 {
    cursor.as_mut().and_then(|c| c.int(row)).unwrap_or(0)
}

impl Writer {
    fn line(&mut self, row: usize) -> Result<()> {
        let origin = int_of(&mut self.origin, row);
        let id = EventId {
            node: (origin >> 32) as u16,
            epoch: origin as u32,
            seq: int_of(&mut self.seq, row) as u64,
            ordinal: int_of(&mut self.ordinal, row) as u32,
        };
        let (time, arrived) = (int_of(&mut self.time, row), int_of(&mut self.arrived, row));
        let severity = int_of(&mut self.severity, row);
        let severity = match &self.severity {
            Some(_) => Severity::from_number(severity).ok_or_else(|| damaged("a severity out of range"))?,
            None => Severity::default(),
        };
        let kind = u8::try_from(int_of(&mut self.kind, row)).ok().and_then(Kind::from_byte);
        let kind = kind.ok_or_else(|| damaged("an unknown kind"))?;
        self.out.extend_from_slice(b"{\"id\":\"");
        self.out.extend_from_slice(id.to_string().as_bytes());
        self.out.extend_from_slice(b"\",\"time\":");
        self.moment(time);
        self.out.extend_from_slice(b",\"arrived\":");
        self.moment(arrived);
        self.out.extend_from_slice(b",\"severity\":\"");
        self.out.extend_from_slice(severity.name().as_bytes());
        self.out.extend_from_slice(b"\",\"severity_number\":");
        write_int(&mut self.out, i64::from(severity.0));
        self.out.extend_from_slice(b",\"kind\":\"");
        self.out.extend_from_slice(kind.name().as_bytes());
        self.out.extend_from_slice(b"\",\"lane\":");
        self.out.extend_from_slice(&self.lane);
        self.out.extend_from_slice(b",\"sender\":");
        write_text(&mut self.out, self.sender.as_mut().and_then(|c| c.text(row)).unwrap_or(""));
        if let Some(sent) = self.sent_time.as_mut().and_then(|c| c.int(row)) {
            self.out.extend_from_slice(b",\"sent_time\":");
            self.moment(sent);
        }
        for (name, cursor) in [("service", &mut self.service), ("host", &mut self.host)] {
            if let Some(text) = cursor.as_mut().and_then(|c| c.text(row)).filter(|t| !t.is_empty()) {
                member(&mut self.out, name);
                write_text(&mut self.out, text);
            }
        }
        member(&mut self.out, "message");
        let message = self.message.as_mut().and_then(|c| c.index(row).map(|index| (c.column.clone(), index)));
        match message.as_ref().map(|(column, index)| (&column.values, *index)) {
            Some((Values::Messages(messages), index)) => {
                let text = messages.text(index)?;
                write_text(&mut self.out, &text);
                if !text.is_empty() {
                    let code = *messages.codes.get(index).ok_or_else(|| damaged("too few codes"))?;
                    let id = self.shapes.entry(code).or_insert_with(|| shape::id_of_template(messages.template(index)));
                    member(&mut self.out, "shape");
                    write_text(&mut self.out, id);
                }
            }
            _ => self.out.extend_from_slice(b"\"\""),
        }
        for (cursor, name) in &mut self.ids {
            if let Some(bytes) = cursor.as_mut().and_then(|c| c.bytes(row)) {
                member(&mut self.out, name);
                self.out.push(b'"');
                let hex = |n: u8| b"0123456789abcdef"[usize::from(n & 15)];
                bytes.iter().for_each(|b| self.out.extend_from_slice(&[hex(b >> 4), hex(*b)]));
                self.out.push(b'"');
            }
        }
        if let Some(took) = self.took.as_mut().and_then(|c| c.int(row)) {
            member(&mut self.out, "took_ns");
            write_int(&mut self.out, took);
        }
        if let Some(status) = self.status.as_mut().and_then(|c| c.int(row)) {
            let status = u8::try_from(status).ok().and_then(Status::from_byte);
            member(&mut self.out, "status");
            write_text(&mut self.out, status.ok_or_else(|| damaged("an unknown status"))?.name());
        }
        if let Some(transformed) =
            self.transformed.as_mut().and_then(|c| c.text(row)).filter(|s| rules_of(s).next().is_some())
        {
            member(&mut self.out, "transformed");
            write_json(&mut self.out, &rules_of(transformed).collect::<Vec<_>>());
        }
        member(&mut self.out, "fields");
        self.fields(row)?;
        self.out.extend_from_slice(b"}\n");
        Ok(())
    }

    /// The fields, nested by the segments of their paths. Columns stand in the order of paths, so the fields of one
    /// object stand together.
    fn fields(&mut self, row: usize) -> Result<()> {
        self.out.push(b'{');
        let mut first = true;
        // Which column's path is open, and how many of its segments are objects.
        let mut open: (usize, usize) = (0, 0);
        for n in 0..self.fields.len() {
            let Some(index) = self.fields[n].cursor.index(row) else { continue };
            let (before, field) = (&self.fields[open.0].segments, &self.fields[n]);
            let objects = field.segments.len().saturating_sub(1);
            let common = before.iter().take(open.1).zip(&field.segments[..objects]).take_while(|(a, b)| a == b).count();
            self.out.extend(std::iter::repeat_n(b'}', open.1 - common));
            let mut comma = !first;
            for segment in &field.segments[common..objects] {
                if comma {
                    self.out.push(b',');
                }
                self.out.extend_from_slice(segment);
                self.out.extend_from_slice(b":{");
                comma = false;
            }
            if comma {
                self.out.push(b',');
            }
            if let Some(name) = field.segments.last() {
                self.out.extend_from_slice(name);
                self.out.push(b':');
            }
            write_value(&mut self.out, field.kind, &field.cursor.column.values, index)?;
            (open, first) = ((n, objects), false);
        }
        self.out.extend(std::iter::repeat_n(b'}', open.1 + 1));
        Ok(())
    }

    fn moment(&mut self, ns: i64) {
        let second = ns.div_euclid(1_000_000_000);
        let text = match &mut self.second {
            Some((at, text)) if *at == second => text,
            kept => {
                let mut text = format_utc(second.saturating_mul(1_000_000_000), 0);
                text.pop();
                &mut kept.insert((second, text)).1
            }
        };
        self.out.push(b'"');
        self.out.extend_from_slice(text.as_bytes());
        self.out.push(b'.');
        let mut digits = [b'0'; 9];
        let mut left = ns.rem_euclid(1_000_000_000);
        for digit in digits.iter_mut().rev() {
            *digit = b'0' + (left % 10) as u8;
            left /= 10;
        }
        self.out.extend_from_slice(&digits);
        self.out.extend_from_slice(b"Z\"");
    }
}

fn member(out: &mut Vec<u8>, name: &str) {
    out.extend_from_slice(b",\"");
    out.extend_from_slice(name.as_bytes());
    out.extend_from_slice(b"\":");
}

fn write_value(out: &mut Vec<u8>, kind: FieldType, values: &Values, index: usize) -> Result<()> {
    match (kind, values) {
        (FieldType::Int, Values::Ints(v)) => write_int(out, *v.get(index).ok_or_else(|| damaged("too few numbers"))?),
        (FieldType::Bool, Values::Bools(v)) => {
            let value = *v.get(index).ok_or_else(|| damaged("too few values"))?;
            out.extend_from_slice(if value { b"true" } else { b"false" });
        }
        (FieldType::Text, Values::Texts { dictionary, codes }) => {
            let code = *codes.get(index).ok_or_else(|| damaged("too few codes"))?;
            write_text(out, dictionary.get(code as usize));
        }
        _ => write_json(out, &field_value(kind, values, index)?),
    }
    Ok(())
}

fn write_int(out: &mut Vec<u8>, n: i64) {
    let mut digits = [0u8; 20];
    let mut at = digits.len();
    let mut left = n.unsigned_abs();
    loop {
        at -= 1;
        digits[at] = b'0' + (left % 10) as u8;
        left /= 10;
        if left == 0 {
            break;
        }
    }
    if n < 0 {
        out.push(b'-');
    }
    out.extend_from_slice(&digits[at..]);
}

fn write_json(out: &mut Vec<u8>, value: &impl serde::Serialize) {
    // Writing to memory cannot fail, nor do these values.
    let _ = serde_json::to_writer(out, value);
}

fn write_text(out: &mut Vec<u8>, text: &str) {
    if text.bytes().all(|b| b >= 0x20 && b != b'"' && b != b'\\') {
        out.push(b'"');
        out.extend_from_slice(text.as_bytes());
        out.push(b'"');
    } else {
        write_json(out, &text);
    }
}

fn json_text(text: &str) -> Vec<u8> {
    let mut out = Vec::new();
    write_text(&mut out, text);
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::any_event;
    use calvex_language::model::{Event, Path, Value};
    use calvex_storage::columns::{build_page, materialise_all};
    use proptest::prelude::*;

    fn slowly(events: &[Event]) -> String {
        events.iter().map(|e| serde_json::to_string(&answer_json(e, "main \"1\"")).unwrap() + "\n").collect()
    }

    #[test]
    fn nested_fields_open_and_close() {
        let field = |name: &str, n| (Path::new(name.split('/')), Value::Int(n));
        let events = [
            Event {
                fields: vec![field("a/b/c", 1), field("a/b/d", 2), field("a/e", 3), field("f", 4)],
                ..Event::default()
            },
            Event { fields: vec![field("a/b/d", -5), field("g/h/i", i64::MIN)], ..Event::default() },
            Event { message: "line\nend \u{1}".into(), time_ns: -1, ..Event::default() },
        ];
        let page = build_page(&events).unwrap();
        let lines = write_lines(&page, &[0, 1, 2], "main \"1\"", false).unwrap();
        assert_eq!(String::from_utf8(lines.bytes).unwrap(), slowly(&materialise_all(&page).unwrap()));
    }

    proptest! {
        #[test]
        fn a_line_is_the_answer_form_of_its_event(events in prop::collection::vec(any_event(), 1..20), from in 0usize..4) {
            let page = build_page(&events).unwrap();
            let rows: Vec<usize> = (0..page.rows()).skip(from).step_by(2).collect();
            let lines = write_lines(&page, &rows, "main \"1\"", false).unwrap();
            prop_assert_eq!(lines.ends.len(), rows.len());
            prop_assert_eq!(String::from_utf8(lines.bytes).unwrap(), slowly(&materialise(&page, &rows).unwrap()));
        }
    }
}
