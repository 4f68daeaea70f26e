"""Loads an NDJSON file into a column store on one thread and times questions; prints JSON."""
import json
import os
import sys
import time

import duckdb

store, events, questions = sys.argv[1], sys.argv[2], json.loads(sys.argv[3])
db = duckdb.connect(store)
db.execute("SET threads TO 1")
db.execute("SET memory_limit = '6GB'")
db.execute(f"CREATE TABLE event AS SELECT * FROM read_json_auto('{events}', format = 'newline_delimited', sample_size = 200000, union_by_name = true)")
db.execute("CHECKPOINT")
times = {}
for name, question in questions.items():
    taken = []
    for _ in range(5):
        began = time.perf_counter()
        db.execute(question).fetchall()
        taken.append(time.perf_counter() - began)
    times[name] = sorted(taken)[len(taken) // 2] * 1000
print(json.dumps({"times": times, "bytes": os.path.getsize(store)}))
