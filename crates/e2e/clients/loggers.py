"""Logging libraries with their default JSON to standard output, and the standard library's syslog handler over UDP and TCP."""

import logging
import logging.handlers
import socket
import sys

import structlog
from pythonjsonlogger.json import JsonFormatter

udp, tcp = ((host, int(port)) for host, _, port in (a.rpartition(":") for a in sys.argv[1:3]))

plain = logging.getLogger("slots.lease")
plain.setLevel(logging.DEBUG)
out = logging.StreamHandler(sys.stdout)
out.setFormatter(JsonFormatter("%(asctime)s %(levelname)s %(name)s %(message)s"))
plain.addHandler(out)
plain.warning("lease %s ran out", "LS-90817", extra={"bank": "BK-017"})

structlog.configure(
    processors=[
        structlog.processors.add_log_level,
        structlog.processors.TimeStamper(fmt="iso"),
        structlog.processors.JSONRenderer(),
    ],
    logger_factory=structlog.PrintLoggerFactory(sys.stdout),
)
structlog.get_logger().error("code refused", door=17)

for address, kind in ((udp, socket.SOCK_DGRAM), (tcp, socket.SOCK_STREAM)):
    syslog = logging.getLogger(f"syslog.{kind}")
    syslog.addHandler(logging.handlers.SysLogHandler(address, logging.handlers.SysLogHandler.LOG_LOCAL0, kind))
    syslog.error("belt %d stands, told by %s", 4, "datagram" if kind == socket.SOCK_DGRAM else "stream")
logging.shutdown()
