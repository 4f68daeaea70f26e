//! Fuzz targets for every decoder of what senders send. `cargo test` runs each briefly; with a fuzzing engine
//! (`cargo bolero test fuzz::ndjson_lines -p calvex-wire`) they run for as long as wished. Nothing may panic, and a good
//! event beside bad bytes is taken.

use crate::otlp::{Encoding, Request, Signal};
use crate::syslog::{self, Frame, Framer};
use crate::{ndjson, otlp};
use bolero::{check, produce};
use calvex_intake::batch::{Batch, BatchBuilder, Policy, Reading};
use calvex_intake::normalise::{Arrival, Limits};
use calvex_intake::route::RouteTable;
use calvex_intake::transform::Transforms;
use calvex_language::query::Ties;

const ROUNDS: usize = 3000;
/// Bytes that mean something to one of the decoders.
const MEANT: &[u8] = b"{}[]\",:\\\n\0<> 0-";
/// Where a seed is changed, and to what.
type Edits = Vec<(u16, u8)>;

/// What a decoder makes of a batch.
fn taken(decode: impl FnOnce(&mut BatchBuilder, &mut Reading)) -> Batch {
    let (ties, transforms, routes) = (Ties::default(), Transforms::default(), RouteTable::new(Vec::new(), 1));
    let arrival = Arrival { arrived_ns: 0, sender: "x", fixed: &[], limits: Limits::default(), ties: &ties };
    let mut reading = Reading::default();
    let mut builder = BatchBuilder::new(arrival);
    decode(&mut builder, &mut reading);
    builder.finish(&reading, &Policy::of_routes(&routes, &transforms, &|_| ("main", u32::MAX))).unwrap()
}

/// Takes an export request where it is one; every record of it is stored or refused.
fn export_taken(body: &[u8], encoding: Encoding, signal: Signal) {
    if let Ok(request) = Request::read(body, encoding, signal) {
        let batch = taken(|batch, reading| request.take(batch, reading).unwrap());
        assert_eq!(batch.stored + batch.refused.len(), request.records);
    }
}

fn edited(seed: &[u8], edits: &Edits) -> Vec<u8> {
    let mut bytes = seed.to_vec();
    for (place, value) in edits {
        let at = usize::from(*place) % bytes.len().max(1);
        match value % 4 {
            0 => bytes.insert(at, MEANT[usize::from(*value / 4) % MEANT.len()]),
            1 => drop(bytes.get(at).is_some().then(|| bytes.remove(at))),
            _ => bytes[at] = *value,
        }
    }
    bytes
}

#[test]
fn ndjson_lines() {
    let seed = br#"{"time":"2026-10-04T02:10:00Z","a":[1,{"b":null}],"msg":"caf\u00e9 \ud83d\ude00","n":-1.5e300}"#;
    check!().with_iterations(ROUNDS).with_generator(produce::<Edits>().with().len(1usize..12)).for_each(|edits| {
        let mut body = edited(seed, edits);
        // What an edit opened must not swallow the line behind it.
        body.extend_from_slice(b"\n{\"msg\":\"good\"}\n");
        let batch = taken(|batch, reading| ndjson::decode(&body, batch, reading).unwrap());
        let reported = batch.stored + batch.refused.len();
        assert!(reported >= 1, "every line is reported");
        if !body.starts_with(b"[") && !body.trim_ascii_start().starts_with(b"[") {
            assert!(batch.stored >= 1, "the good line is taken: {}", String::from_utf8_lossy(&body));
        }
    });
}

#[test]
fn json_arrays() {
    let seed = br#"[{"msg":"a"},{"msg":"b","x":[[1],{}]},17,{"msg":"c"}]"#;
    check!().with_iterations(ROUNDS).with_generator(produce::<Edits>().with().len(1usize..12)).for_each(|edits| {
        let mut body = vec![b'['];
        body.extend(edited(&seed[1..], edits));
        taken(|batch, reading| ndjson::decode(&body, batch, reading).unwrap());
    });
}

#[test]
fn otlp_json() {
    let log = br#"{"resourceLogs":[{"resource":{"attributes":[{"key":"service.name","value":{"stringValue":"slots"}}]},"scopeLogs":[{"logRecords":[{"timeUnixNano":"1791081521198204331","severityNumber":13,"body":{"stringValue":"m"},"traceId":"5b8aa5a2d2c872e8321cf37308d69df2"}]}]}]}"#;
    let span = br#"{"resourceSpans":[{"scopeSpans":[{"spans":[{"traceId":"5b8aa5a2d2c872e8321cf37308d69df2","spanId":"051581bf3cb55c13","name":"n","startTimeUnixNano":"1","endTimeUnixNano":5,"status":{"code":2}}]}]}]}"#;
    check!().with_iterations(ROUNDS).with_generator(produce::<Edits>().with().len(0usize..8)).for_each(|edits| {
        export_taken(&edited(log, edits), Encoding::Json, Signal::Logs);
        export_taken(&edited(span, edits), Encoding::Json, Signal::Spans);
    });
}

#[test]
fn otlp_protobuf() {
    let seed = |json: &str| {
        let request: opentelemetry_proto::tonic::collector::logs::v1::ExportLogsServiceRequest =
            serde_json::from_str(json).unwrap();
        otlp::encode(&request, Encoding::Protobuf)
    };
    let seed = seed(
        r#"{"resourceLogs":[{"scopeLogs":[{"logRecords":[{"timeUnixNano":"5","body":{"kvlistValue":{"values":[{"key":"a","value":{"arrayValue":{"values":[{"intValue":"7"}]}}}]}}}]}]}]}"#,
    );
    check!().with_iterations(ROUNDS).with_generator(produce::<Edits>().with().len(0usize..12)).for_each(|edits| {
        let bytes = edited(&seed, edits);
        export_taken(&bytes, Encoding::Protobuf, Signal::Logs);
        export_taken(&bytes, Encoding::Protobuf, Signal::Spans);
    });
}

#[test]
fn syslog_messages() {
    let seeds: [&[u8]; 3] = [
        b"<165>1 2026-10-04T02:38:41.198Z slots-1 slots 17 LEASE [slot@41 bank=\"BK-017\" door=\"4\\\"\"] \xef\xbb\xbfran out",
        b"<14>Oct  4 02:38:41 bank-17 locker-agent[17]: door 17 stays shut",
        b"<14>slots: {\"msg\":\"as JSON\",\"door\":17}",
    ];
    check!()
        .with_iterations(ROUNDS)
        .with_generator((produce::<u8>(), produce::<Edits>().with().len(0usize..10)))
        .for_each(|(which, edits)| {
            let seed = seeds[usize::from(*which) % seeds.len()];
            let messages = [
                (Frame::Message(edited(seed, edits)), "10.4.0.7".to_owned()),
                (Frame::Message(b"<14>1 - - - - - - good".to_vec()), "10.4.0.7".to_owned()),
            ];
            let batch = taken(|batch, reading| syslog::take(&messages, batch, reading).unwrap());
            assert!(batch.stored >= 1, "the good message is taken");
            assert_eq!(batch.stored + batch.refused.len(), 2);
        });
}

#[test]
fn syslog_frames() {
    let seed = b"31 <14>1 - - - - - - counted, 31 b\n<14>lf\n<14>nul\0<14>1 - - - - - - no end";
    check!()
        .with_iterations(ROUNDS)
        .with_generator((produce::<Edits>().with().len(0usize..10), produce::<Vec<u8>>().with().len(0usize..6)))
        .for_each(|(edits, cuts)| {
            let bytes = edited(seed, edits);
            let all = |pieces: &[&[u8]]| {
                let (mut framer, mut frames) = (Framer::new(64), Vec::new());
                for piece in pieces {
                    framer.feed(piece, &mut frames);
                }
                framer.flush(&mut frames);
                frames
            };
            // Where the network cuts a stream makes no difference.
            let mut ends: Vec<usize> = cuts.iter().map(|c| usize::from(*c) % (bytes.len() + 1)).collect();
            ends.sort_unstable();
            let (mut pieces, mut at) = (Vec::new(), 0);
            for end in ends.into_iter().chain([bytes.len()]) {
                pieces.push(&bytes[at..end]);
                at = end;
            }
            assert_eq!(all(&pieces), all(&[&bytes]));
        });
}
