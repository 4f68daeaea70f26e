//! Rows of a page back to events, exactly.

use super::{BuiltinColumn, ColumnKey, FieldType, PageRead, Rows, Values};
use calvex_language::error::{CoreError, Result};
use calvex_language::model::Path;
use calvex_language::model::{Event, EventId, Kind, Severity, Status, Value, decode_value};

fn damaged(what: &str) -> CoreError {
    CoreError::damaged("a page", what)
}

/// All events of a page, in its order.
///
/// # Errors
/// Where a column cannot be read.
pub fn materialise_all(page: &dyn PageRead) -> Result<Vec<Event>> {
    materialise(page, &(0..page.rows()).collect::<Vec<_>>())
}

/// The events of `rows` (ascending), in that order.
///
/// # Errors
/// Where a column cannot be read.
pub fn materialise(page: &dyn PageRead, rows: &[usize]) -> Result<Vec<Event>> {
    page.prefetch(&|_| true);
    let mut events = vec![Event::default(); rows.len()];
    let mut wanted = Rows::none(page.rows());
    rows.iter().for_each(|row| wanted.set(*row));
    for (index, key) in page.keys().iter().enumerate() {
        let Some(column) = page.column_at(index, &wanted)? else { continue };
        let mut take = |set: &mut dyn FnMut(&mut Event, usize) -> Result<()>| -> Result<()> {
            for (event, row) in events.iter_mut().zip(rows) {
                if let Some(value_index) = column.value_index(*row) {
                    set(event, value_index)?;
                }
            }
            Ok(())
        };
        match (key, &column.values) {
            (ColumnKey::Builtin(own), Values::Ints(v)) => take(&mut |e, value_index| {
                let n = *v.get(value_index).ok_or_else(|| damaged("too few numbers"))?;
                set_int(e, *own, n)
            })?,
            (ColumnKey::Builtin(own), Values::Texts { dictionary, codes }) => take(&mut |e, value_index| {
                let code = *codes.get(value_index).ok_or_else(|| damaged("too few codes"))?;
                let slot = match own {
                    BuiltinColumn::Service => &mut e.service,
                    BuiltinColumn::Host => &mut e.host,
                    BuiltinColumn::Sender => &mut e.sender,
                    BuiltinColumn::Layout => &mut e.layout,
                    BuiltinColumn::Transformed => &mut e.transformed,
                    _ => return Err(damaged("text in a column of another type")),
                };
                dictionary.get(code as usize).clone_into(slot);
                Ok(())
            })?,
            (ColumnKey::Builtin(BuiltinColumn::Message), Values::Messages(messages)) => {
                let value_indexes: Vec<usize> = rows.iter().filter_map(|row| column.value_index(*row)).collect();
                let mut texts = messages.texts_at(&value_indexes)?.into_iter();
                take(&mut |e, _| {
                    e.message = texts.next().unwrap_or_default();
                    Ok(())
                })?;
            }
            (ColumnKey::Builtin(BuiltinColumn::Overflow), values) => take(&mut |e, value_index| {
                let fields = overflow_fields(values, value_index)?;
                e.fields.extend(fields.into_iter().map(|(path, value)| (Path::from_stored(&path), value)));
                Ok(())
            })?,
            (ColumnKey::Builtin(own), Values::Blobs { dictionary, codes }) => take(&mut |e, value_index| {
                let code = *codes.get(value_index).ok_or_else(|| damaged("too few codes"))?;
                let bytes = dictionary.get(code as usize);
                let short = || damaged("an id of the wrong length");
                match own {
                    BuiltinColumn::Trace => e.trace = Some(bytes.try_into().map_err(|_| short())?),
                    BuiltinColumn::Span => e.span = Some(bytes.try_into().map_err(|_| short())?),
                    BuiltinColumn::Parent => e.parent = Some(bytes.try_into().map_err(|_| short())?),
                    _ => return Err(damaged("bytes in a column of another type")),
                }
                Ok(())
            })?,
            (ColumnKey::Builtin(_), _) => return Err(damaged("an own column of an unknown type")),
            (ColumnKey::Field(path, kind), values) => take(&mut |e, value_index| {
                e.fields.push((path.clone(), field_value(*kind, values, value_index)?));
                Ok(())
            })?,
        }
    }
    Ok(events)
}

fn set_int(event: &mut Event, own: BuiltinColumn, n: i64) -> Result<()> {
    match own {
        BuiltinColumn::Time => event.time_ns = n,
        BuiltinColumn::Arrived => event.arrived_ns = n,
        BuiltinColumn::SentTime => event.sent_time_ns = Some(n),
        BuiltinColumn::IdOrigin => {
            let origin = EventId { node: (n >> 32) as u16, epoch: n as u32, ..event.id };
            event.id = origin;
        }
        BuiltinColumn::IdSeq => event.id.seq = n as u64,
        BuiltinColumn::IdOrdinal => event.id.ordinal = n as u32,
        BuiltinColumn::Severity => {
            event.severity = Severity::from_number(n).ok_or_else(|| damaged("a severity out of range"))?
        }
        BuiltinColumn::Kind => {
            event.kind = u8::try_from(n).ok().and_then(Kind::from_byte).ok_or_else(|| damaged("an unknown kind"))?;
        }
        BuiltinColumn::Took => event.took_ns = Some(n),
        BuiltinColumn::Status => {
            let status = u8::try_from(n).ok().and_then(Status::from_byte);
            event.status = Some(status.ok_or_else(|| damaged("an unknown status"))?);
        }
        _ => return Err(damaged("numbers in a column of another type")),
    }
    Ok(())
}

/// The value of a field column at `value_index`.
///
/// # Errors
/// Where the column does not hold what its type says.
pub fn field_value(kind: FieldType, values: &Values, value_index: usize) -> Result<Value> {
    let value = match (kind, values) {
        (FieldType::Null, Values::Nulls) => Some(Value::Null),
        (FieldType::Bool, Values::Bools(v)) => v.get(value_index).map(|b| Value::Bool(*b)),
        (FieldType::Int, Values::Ints(v)) => v.get(value_index).map(|n| Value::Int(*n)),
        (FieldType::UInt, Values::Ints(v)) => v.get(value_index).map(|n| Value::UInt(*n as u64)),
        (FieldType::Float, Values::Floats(v)) => v.get(value_index).map(|f| Value::Float(*f)),
        (FieldType::Text, Values::Texts { dictionary, codes }) => {
            codes.get(value_index).map(|c| Value::Text(dictionary.get(*c as usize).to_owned()))
        }
        (FieldType::Decimal, Values::Texts { dictionary, codes }) => {
            codes.get(value_index).map(|c| Value::Decimal(dictionary.get(*c as usize).to_owned()))
        }
        (FieldType::Nested, Values::Blobs { dictionary, codes }) => {
            codes.get(value_index).and_then(|c| decode_value(dictionary.get(*c as usize)))
        }
        _ => None,
    };
    value.ok_or_else(|| damaged("a field that is not of its column's type"))
}

/// The fields beyond the columns at `value_index` of an overflow column: stored paths and values.
///
/// # Errors
/// Where the column is none.
pub fn overflow_fields(values: &Values, value_index: usize) -> Result<Vec<(String, Value)>> {
    let Values::Blobs { dictionary, codes } = values else { return Err(damaged("an overflow column of another type")) };
    let fields = codes.get(value_index).and_then(|c| decode_value(dictionary.get(*c as usize)));
    match fields {
        Some(Value::Object(fields)) => Ok(fields),
        _ => Err(damaged("overflow that does not decode")),
    }
}
