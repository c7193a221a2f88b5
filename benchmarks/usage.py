"""What reading a usage log costs beside the engine alone: python benchmarks/usage.py [LINES] [csv|parquet]

Both are processes of their own, by turns: one reads the same columns with the engine, typed, and groups them; the other is `zeitbuch reconcile` on the
demo's estate. Said are CPU seconds, wall seconds and the most memory.
"""

from __future__ import annotations

import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

HERE = Path(__file__).parent
ESTATE = HERE.parent / "src" / "zeitbuch" / "demo" / "estate"
ZEITBUCH = str(Path(sys.executable).parent / "zeitbuch")
MAKE = """
import duckdb, sys
lines, path = int(sys.argv[1]), sys.argv[2]
form = "FORMAT parquet" if path.endswith("parquet") else "HEADER, DELIMITER ','"
duckdb.sql(f'''COPY (SELECT strftime(TIMESTAMP '2026-10-01' + INTERVAL (i * 61 * 86400 // {lines}) SECOND, '%Y-%m-%d %H:%M:%S') AS moment,
  ['Cargo papers screening', 'Customer letters', 'Timetable questions', 'Safety handbook assistant', 'Weather warnings'][(1 + hash(i) % 5)::INT] AS flow,
  'r' || (i // 4) AS run, 's' || (hash(i * 3) % 4) AS step, ['fulmar-mini-2', 'fulmar-large-2'][(1 + hash(i * 7) % 2)::INT] AS model,
  200 + hash(i * 11) % 4000 AS tin, 20 + hash(i * 13) % 600 AS tout, round((hash(i * 17) % 100000) / 1e7, 7)::DECIMAL(18, 7) AS cost
  FROM range({lines}) t(i)) TO '{path}' ({form})''')
"""
ALONE = """
import duckdb, sys
path = sys.argv[1]
read = f"read_parquet('{path}')" if path.endswith("parquet") else f"read_csv('{path}')"
print(len(duckdb.sql(f'''SELECT moment::TIMESTAMP::DATE AS day, flow, step, model, count(*), sum(tin), sum(tout), sum(cost::DECIMAL(38, 12))
  FROM {read} GROUP BY ALL''').fetchall()), len(duckdb.sql(f'''SELECT moment::TIMESTAMP::DATE AS day, flow, count(DISTINCT run) FROM {read} GROUP BY ALL''').fetchall()))
"""
MAPPING = """usage = 1
zone = "Europe/Oslo"
currency = "EUR"
[column]
time = "moment"
flow = "flow"
run = "run"
step = "step"
model = "model"
tokens_in = "tin"
tokens_out = "tout"
cost = "cost"
"""


def measured(command: list[str], folder: Path) -> tuple[float, float, float]:
    """CPU seconds, wall seconds and megabytes of a command."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    begun = time.perf_counter()
    done = subprocess.run(
        ["/usr/bin/env", "time", "-f", "%M", *command], cwd=folder, capture_output=True, text=True, check=False
    )
    wall = time.perf_counter() - begun
    assert done.returncode == 0, done.stderr
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    cpu = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    return cpu, wall, int(done.stderr.split()[-1]) / 1024


def main(lines: int, form: str) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        path = folder / f"log.{form}"
        subprocess.run([sys.executable, "-c", MAKE, str(lines), str(path)], check=True)
        (folder / "usage.toml").write_text(MAPPING)
        os.environ["XDG_CACHE_HOME"] = str(folder / "cache")
        ours = [
            ZEITBUCH,
            "reconcile",
            str(path),
            "--mapping",
            str(folder / "usage.toml"),
            "--quiet",
            "-o",
            str(folder / "out.json"),
        ]
        rows = [(measured([sys.executable, "-c", ALONE, str(path)], ESTATE), measured(ours, ESTATE)) for _ in range(2)]
        print(f"{lines:,} lines of {form}, {path.stat().st_size / 1e6:,.0f} MB")
        for title, place in (("engine", 0), ("reconcile", 1)):
            cpu, wall, most = (min(row[place][key] for row in rows) for key in range(3))
            print(f"{title:10} {cpu:7.1f} s CPU {wall:7.1f} s wall {most:7,.0f} MB")
        print(
            f"ratio {min(row[1][1] for row in rows) / min(row[0][1] for row in rows):.2f} wall, "
            f"{min(row[1][0] for row in rows) / min(row[0][0] for row in rows):.2f} CPU"
        )


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 10_000_000, sys.argv[2] if len(sys.argv) > 2 else "csv")
