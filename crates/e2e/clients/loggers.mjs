// Two logging libraries with their default JSON, to standard output.
import { pino } from "pino";
import winston from "winston";

const first = pino();
first.warn({ bank: "BK-017", door: 17 }, "lease ran out before door 17 confirmed");
first.error(new Error("no answer from the bank"), "door stays shut");

const second = winston.createLogger({
  format: winston.format.combine(winston.format.timestamp(), winston.format.json()),
  transports: [new winston.transports.Console()],
});
second.info("message queued", { parcelId: "PX-10001" });
second.error("message lost", { parcelId: "PX-10002" });
