// Sends logs, spans and metrics by the exporters of an SDK: exporters.mjs WAY ADDRESS KEY SERVICE [CA].
// WAY is json, protobuf or grpc; the rest is as in exporters.py.

import { readFileSync } from "node:fs";
import { context, trace } from "@opentelemetry/api";
import { SeverityNumber } from "@opentelemetry/api-logs";
import { resourceFromAttributes } from "@opentelemetry/resources";
import { BatchLogRecordProcessor, LoggerProvider } from "@opentelemetry/sdk-logs";
import { MeterProvider, PeriodicExportingMetricReader } from "@opentelemetry/sdk-metrics";
import { BasicTracerProvider, BatchSpanProcessor } from "@opentelemetry/sdk-trace-base";

const [way, address, key, service, authority] = process.argv.slice(2);
const ending = { json: "http", protobuf: "proto", grpc: "grpc" }[way];
const made = async (signal, name) => (await import(`@opentelemetry/exporter-${signal}-otlp-${ending}`))[name];
const headers = { authorization: `Bearer ${key}` };
const where = async (path) => {
  if (way !== "grpc") {
    return { url: `${address}/v1/${path}`, headers };
  }
  const { Metadata, credentials } = await import("@grpc/grpc-js");
  const metadata = new Metadata();
  metadata.set("authorization", headers.authorization);
  return { url: address, credentials: authority ? credentials.createSsl(readFileSync(authority)) : credentials.createInsecure(), metadata };
};
const exporter = async (signal, path, name) => new (await made(signal, name))(await where(path));

const OWN = { resource: "mine", scope: "mine", severity_text: "mine", event_name: "mine", body: "mine", door: 17 };
const resource = resourceFromAttributes({ "service.name": service, "host.name": "bk-017", schema_url: "mine" });

const logs = new LoggerProvider({
  resource,
  processors: [new BatchLogRecordProcessor({ exporter: await exporter("logs", "logs", "OTLPLogExporter") })],
});
const logger = logs.getLogger("leases", "2");
const emit = (body, attributes) =>
  logger.emit({ body, severityText: "WARN", severityNumber: SeverityNumber.WARN, attributes });
emit("lease ran out", OWN);
emit("x".repeat(2 << 20), {});
emit("lease renewed", { door: 18 });
await logs.shutdown().catch((e) => console.error(`logs: ${e}`));

const traces = new BasicTracerProvider({
  resource,
  spanProcessors: [new BatchSpanProcessor(await exporter("trace", "traces", "OTLPTraceExporter"))],
});
const tracer = traces.getTracer("leases");
const outer = tracer.startSpan("lease a slot", { attributes: { span: "mine", door: 17 } });
outer.addEvent("door opened", { name: "mine", time: "mine" });
tracer.startSpan("open a door", {}, trace.setSpan(context.active(), outer)).end();
outer.end();
await traces.shutdown().catch((e) => console.error(`traces: ${e}`));

const metrics = new MeterProvider({
  resource,
  readers: [
    new PeriodicExportingMetricReader({ exporter: await exporter("metrics", "metrics", "OTLPMetricExporter") }),
  ],
});
metrics.getMeter("leases").createCounter("doors").add(1);
await metrics.shutdown().catch((e) => console.error(`metrics: ${e}`));
