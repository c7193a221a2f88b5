"""What a month of a flow costs is one number: in the estimate, on the sheet, on the site, in the inventory, in findings and impacts; a figure of models alone says so."""

from __future__ import annotations

import csv
import io
import json
import re
from pathlib import Path

from conftest import Run


def test_every_output_says_the_same_month(demo: Path, run: Run) -> None:
    rows = list(csv.DictReader(io.StringIO(run("estimate", "--format", "csv", cwd=demo).out)))
    wanted = {
        row["flow"]: float(row["all_month"]) for row in rows if row["flow"] and not row["flow"].startswith("fee ")
    }
    assert len(wanted) > 15 and sum(wanted.values()) > 100
    metered = {row["flow"] for row in rows if row["meters_month"] and float(row["meters_month"] or 0) > 1}
    assert len(metered) > 3  # or leaving meters out would not show

    assert run("document", "-o", "docs", "--format", "markdown", cwd=demo).code == 0
    site = {one["name"]: one["cost"] for one in json.loads((demo / "docs" / "zeitbuch-site.json").read_text())["rows"]}
    assert site.keys() == wanted.keys()
    files = {one["name"]: one["file"] for one in json.loads((demo / "docs" / "zeitbuch-site.json").read_text())["rows"]}
    for name, cost in wanted.items():
        assert abs(site[name] - cost) < 1e-6, name
        page = (demo / "docs" / f"{files[name]}.md").read_text()
        said = re.findall(r"([\d.,]+) EUR in 2026-11", page)[0]
        assert abs(float(said.replace(",", "")) - cost) <= max(0.006, 0.06 * cost), (name, said, cost)
        assert f"**Cost in 2026-11:** {said} EUR" in page, name

    found = json.loads(run("check", "--format", "json", cwd=demo).out)["findings"]
    months = {one["flow"]: one["month"] for one in found if one["month"] is not None}
    assert len(months) > 5 and all(abs(months[name] - wanted[name]) < 1e-6 for name in months)

    impact = json.loads(run("impact", "model:fulmar-large-2", "--format", "json", cwd=demo).out)["flows"]
    costs = {one["name"]: one["cost"] for one in impact if one.get("cost") is not None}
    assert len(costs) > 3 and all(abs(costs[name] - wanted[name]) < 1e-6 for name in costs)

    assert run("record", cwd=demo).code == 0
    models = {row["flow"]: float(row["cost_month"] or 0) for row in rows}
    for name in ("Customer letters", "Cargo papers screening"):
        # What a version changed is told of models: the share of meters depends on all other flows.
        ran = run("history", name, cwd=demo)
        kept = json.loads(run("history", name, "--format", "json", cwd=demo).out)["rows"][0]
        assert abs(float(kept["month"]) - models[name]) < 0.01 and "models per month" in " ".join(ran.out.split())
        over = run("inventory", "--where", f"cost > {wanted[name] - 0.01}", "--format", "csv", cwd=demo).out
        under = run("inventory", "--where", f"cost < {wanted[name] - 0.01}", "--format", "csv", cwd=demo).out
        assert name in over and name not in under
