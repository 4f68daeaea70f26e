"""Sends logs, spans and metrics by the exporters of an SDK: exporters.py WAY ADDRESS KEY SERVICE [CA].

WAY is protobuf or grpc. Of each signal some are ordinary, some have attributes named like parts of the protocol, and one
log record is larger than an event may be.
"""

import sys

from opentelemetry._logs import LogRecord, SeverityNumber
from opentelemetry.sdk._logs import LoggerProvider
from opentelemetry.sdk._logs.export import BatchLogRecordProcessor
from opentelemetry.sdk.metrics import MeterProvider
from opentelemetry.sdk.metrics.export import PeriodicExportingMetricReader
from opentelemetry.sdk.resources import Resource
from opentelemetry.sdk.trace import TracerProvider
from opentelemetry.sdk.trace.export import BatchSpanProcessor

way, address, key, service, *authority = sys.argv[1:]
headers = {"authorization": f"Bearer {key}"}
if way == "grpc":
    from opentelemetry.exporter.otlp.proto.grpc._log_exporter import OTLPLogExporter
    from opentelemetry.exporter.otlp.proto.grpc.metric_exporter import OTLPMetricExporter
    from opentelemetry.exporter.otlp.proto.grpc.trace_exporter import OTLPSpanExporter

    def exporter(made, _path):
        if authority:
            from grpc import ssl_channel_credentials

            with open(authority[0], "rb") as file:
                proven = {"credentials": ssl_channel_credentials(file.read())}
        else:
            proven = {"insecure": True}
        return made(endpoint=address, headers=tuple(headers.items()), **proven)
else:
    from opentelemetry.exporter.otlp.proto.http._log_exporter import OTLPLogExporter
    from opentelemetry.exporter.otlp.proto.http.metric_exporter import OTLPMetricExporter
    from opentelemetry.exporter.otlp.proto.http.trace_exporter import OTLPSpanExporter

    def exporter(made, path):
        return made(endpoint=f"{address}/v1/{path}", headers=headers, certificate_file=(authority or [None])[0])


OWN = {"resource": "mine", "scope": "mine", "severity_text": "mine", "event_name": "mine", "body": "mine", "door": 17}
resource = Resource.create({"service.name": service, "host.name": "bk-017", "schema_url": "mine"})

logs = LoggerProvider(resource=resource)
logs.add_log_record_processor(BatchLogRecordProcessor(exporter(OTLPLogExporter, "logs")))
logger = logs.get_logger("leases", "2", attributes={"name": "mine"})


def emit(text, attributes):
    logger.emit(LogRecord(body=text, severity_text="WARN", severity_number=SeverityNumber.WARN, attributes=attributes))


emit("lease ran out", OWN)
emit("x" * (2 << 20), {})
emit("lease renewed", {"door": 18})
logs.shutdown()

traces = TracerProvider(resource=resource)
traces.add_span_processor(BatchSpanProcessor(exporter(OTLPSpanExporter, "traces")))
tracer = traces.get_tracer("leases")
with tracer.start_as_current_span("lease a slot", attributes={"span": "mine", "door": 17}) as span:
    span.add_event("door opened", {"name": "mine", "time": "mine"})
    with tracer.start_as_current_span("open a door"):
        pass
traces.shutdown()

metrics = MeterProvider(
    resource=resource, metric_readers=[PeriodicExportingMetricReader(exporter(OTLPMetricExporter, "metrics"))]
)
metrics.get_meter("leases").create_counter("doors").add(1)
metrics.shutdown()
