//! OTLP over gRPC: the log and trace services of the protocol, on its standard port. The key comes as the metadata
//! `authorization: Bearer KEY`.
//!
//! | what | status |
//! | --- | --- |
//! | no key, or one that is not good | `UNAUTHENTICATED` |
//! | a batch at fault, or too large | `INVALID_ARGUMENT`, which exporters do not repeat |
//! | not now: database away, disk nearly full, too much at once | `UNAVAILABLE`, which they do |

use super::otlp::first_refusal;
use super::take;
use crate::access::sender;
use crate::error::{Result, ServiceError};
use crate::state::Shared;
use axum::http::HeaderMap;
use calvex_core::CoreError;
use calvex_core::batch::{BatchBuilder, Reading};
use calvex_store::StoreError;
use calvex_wire::api::SendAnswer;
use calvex_wire::otlp::{logs, traces};
use opentelemetry_proto::tonic::collector::logs::v1::logs_service_server::{LogsService, LogsServiceServer};
use opentelemetry_proto::tonic::collector::logs::v1::{ExportLogsServiceRequest, ExportLogsServiceResponse};
use opentelemetry_proto::tonic::collector::trace::v1::trace_service_server::{TraceService, TraceServiceServer};
use opentelemetry_proto::tonic::collector::trace::v1::{ExportTraceServiceRequest, ExportTraceServiceResponse};
use prost::Message;
use std::time::Duration;
use tokio::net::TcpListener;
use tonic::codec::CompressionEncoding;
use tonic::transport::Server;
use tonic::transport::server::TcpIncoming;
use tonic::{Code, Request, Response, Status};

/// A connection on which nothing comes for so long is asked whether it lives.
const KEEPALIVE: Duration = Duration::from_secs(60);
/// Requests worked on at once on one connection.
const STREAMS: u32 = 64;

#[derive(Clone)]
struct Exports {
    app: Shared,
}

/// Serves until `stopping` ends, then lets requests under way end.
pub async fn serve(app: Shared, listener: TcpListener, stopping: impl Future<Output = ()> + Send) {
    let limit = app.settings.mib("limits.unpacked_mib");
    let exports = Exports { app };
    let logs = LogsServiceServer::new(exports.clone())
        .accept_compressed(CompressionEncoding::Gzip)
        .accept_compressed(CompressionEncoding::Zstd)
        .max_decoding_message_size(limit);
    let traces = TraceServiceServer::new(exports)
        .accept_compressed(CompressionEncoding::Gzip)
        .accept_compressed(CompressionEncoding::Zstd)
        .max_decoding_message_size(limit);
    let served = Server::builder()
        .max_concurrent_streams(STREAMS)
        .http2_keepalive_interval(Some(KEEPALIVE))
        .add_service(logs)
        .add_service(traces)
        .serve_with_incoming_shutdown(TcpIncoming::from(listener).with_nodelay(Some(true)), stopping);
    if let Err(e) = served.await {
        tracing::error!("the gRPC listener ended: {e}");
    }
}

impl Exports {
    async fn export<T: Message + 'static>(
        &self,
        headers: HeaderMap,
        request: T,
        take_in: fn(T, &mut BatchBuilder, &mut Reading) -> std::result::Result<(), CoreError>,
    ) -> Result<SendAnswer> {
        let sender = sender(&self.app, &headers).await?;
        // What came cannot be had any more; the same request gives the same bytes again.
        let hash = Some(blake3::hash(&request.encode_to_vec()).into());
        let decode = move |batch: &mut BatchBuilder, reading: &mut Reading| {
            Ok(take_in(request, batch, reading).map_err(StoreError::Core)?)
        };
        take(&self.app, &headers, sender, super::Body { hash, decode }).await
    }
}

#[tonic::async_trait]
impl LogsService for Exports {
    async fn export(
        &self,
        request: Request<ExportLogsServiceRequest>,
    ) -> std::result::Result<Response<ExportLogsServiceResponse>, Status> {
        let (metadata, _, request) = request.into_parts();
        let answer = self.export(metadata.into_headers(), request, logs::take).await.map_err(status_of)?;
        Ok(Response::new(logs::answer(answer.refused as i64, &first_refusal(&answer))))
    }
}

#[tonic::async_trait]
impl TraceService for Exports {
    async fn export(
        &self,
        request: Request<ExportTraceServiceRequest>,
    ) -> std::result::Result<Response<ExportTraceServiceResponse>, Status> {
        let (metadata, _, request) = request.into_parts();
        let answer = self.export(metadata.into_headers(), request, traces::take).await.map_err(status_of)?;
        Ok(Response::new(traces::answer(answer.refused as i64, &first_refusal(&answer))))
    }
}

fn status_of(error: ServiceError) -> Status {
    let problem = error.problem();
    let code = match problem.status {
        401 => Code::Unauthenticated,
        403 => Code::PermissionDenied,
        429 | 503 => Code::Unavailable,
        500 => Code::Internal,
        _ => Code::InvalidArgument,
    };
    Status::new(code, problem.detail)
}
