"""README and docs run as written, on the demo."""

from __future__ import annotations

import json
import os
import re
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import Run, started

ROOT = Path(__file__).parent.parent


def recorded(demo: Path, run: Run) -> None:
    """The book as `zeitbuch demo` leaves it."""
    from zeitbuch.cli.commands.demo import STEPS

    lines = [line for line in STEPS if line.startswith("zeitbuch record")]
    assert len(lines) == 2
    for line in lines:
        assert run(*shlex.split(line)[1:], cwd=demo).code == 0


def test_commands_of_the_readme_run_as_written(demo: Path, run: Run) -> None:
    recorded(demo, run)
    blocks = re.findall(r"```sh\n(.*?)```", (ROOT / "README.md").read_text().split("## A tour")[1], re.DOTALL)
    lines = [line for block in blocks for line in block.splitlines() if line.startswith("zeitbuch")]
    assert len(lines) >= 14
    for line in lines:
        said = run_line(line, demo, run)
        assert " error: " not in said and " warning: " not in said, (line, said)
    for name in ("flows.csv", "letters.svg", "maps", "cost.png", "changes.html", "documents", "crew-swap.yaml"):
        assert (demo / name).exists(), name


def run_line(line: str, cwd: Path, run: Run) -> str:
    """Runs a line of a document; what it told. Behind "|| true" the answer may be no."""
    words = shlex.split(line, comments=True)
    may_differ = words[-2:] == ["||", "true"]
    assert words[0] == "zeitbuch" and not {"|", ">", "&&", ";"} & set(words)
    ran = run(*(words[1:-2] if may_differ else words[1:]), cwd=cwd)
    assert ran.code == 0 or (may_differ and ran.code == 1), (line, ran.err)
    return ran.err


def test_commands_of_the_map_docs_run_as_written(demo: Path, run: Run) -> None:
    blocks = re.findall(r"```sh\n(.*?)```", (ROOT / "docs" / "maps.md").read_text(), re.DOTALL)
    for line in "\n".join(blocks).splitlines():
        assert not line.strip() or " error: " not in run_line(line, demo, run)
    for name in ("folded.svg", "rough.svg", "rows.svg", "ai.svg", "prompts.svg", "cost.svg", "stores.svg", "month.svg"):
        assert (demo / name).exists(), name


def test_ten_minutes_run_as_written(tmp_path: Path, run: Run) -> None:
    text = (ROOT / "docs" / "ten-minutes.md").read_text()
    script = "set -e\n" + "".join(re.findall(r"```sh\n(.*?)```", text, re.DOTALL))
    program = f"{sys.executable} -m zeitbuch"
    env = {
        **os.environ,
        "XDG_CACHE_HOME": str(tmp_path / "cache"),
        "XDG_CONFIG_HOME": str(tmp_path / "config"),
        "COLUMNS": "160",
    }
    done = subprocess.run(
        ["bash", "-c", f"zeitbuch() {{ {program} \"$@\"; }}\n{script}"],
        cwd=tmp_path, capture_output=True, text=True, check=False, env=env,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    shown = re.findall(r"```text\n(.*?)```", text, re.DOTALL)
    assert len(shown) == 2 and all(block.strip() in done.stderr for block in shown), done.stderr
    assert "3 flows" in done.stdout and "Maschinist anrufen: Sends" in done.stdout
    assert "zeitbuch dialect suggest unknown/export.zip" in done.stderr
    assert (tmp_path / "ten" / "schaden.svg").exists()
    assert "looks for new items every 2 hours" in done.stdout and "Waits for 45 minutes." in done.stdout
    assert re.search(r"Letters of harbour users +on +Hedda Quist .* 100 %", done.stdout)
    assert done.stderr.count("left open") == 2, "after the answers nothing is left open"


def test_pictures_of_the_readme_are_there() -> None:
    named = set(re.findall(r"\((docs/screenshots/[^)]+)\)", (ROOT / "README.md").read_text()))
    there = {str(p.relative_to(ROOT)) for p in (ROOT / "docs" / "screenshots").glob("*.png")}
    assert named == there and len(there) < 20


def test_dialect_of_the_docs_reads_what_it_describes(tmp_path: Path, run: Run) -> None:
    text = re.search(r"```toml\n(.*?)```", (ROOT / "docs" / "dialects.md").read_text(), re.DOTALL)
    assert text is not None
    (tmp_path / "harbour.toml").write_text(text[1])
    tasks = [
        {"key": "t", "title": "Tide", "does": "tide.high", "given": {"times": "0 6 * * *", "zone": "Europe/Oslo"}},
        {
            "key": "a",
            "title": "Ask",
            "does": "ask.once",
            "given": {"brain": "fulmar-mini-2", "orders": "Say ((t.height))."},
        },
        {"key": "s", "title": "Flag", "does": "signal.flag", "given": {"text": "((a.answer))"}},
    ]
    ropes = [{"a": "t", "b": "a"}, {"a": "a", "b": "s", "knot": "broken"}]
    (tmp_path / "x.json").write_text(
        json.dumps({"harbour": 1, "quays": [{"key": "q", "title": "Quay", "tasks": tasks, "ropes": ropes}]})
    )
    ran = run("inventory", "x.json", "--dialect", "harbour.toml", "-f", "json")
    assert ran.code == 0, ran.err
    (row,) = json.loads(ran.out)["flows"]
    assert (row["trigger"], row["ai_steps"], row["read"]) == ("daily at 06:00 (Europe/Oslo)", 1, 1.0)
    assert "goes on at 2 ‘Flag’" in run("explain", "Quay", "Ask", "--source", "x.json", "--dialect", "harbour.toml").out


def test_scenario_of_the_docs_runs_as_written(demo: Path, run: Run) -> None:
    text = (ROOT / "docs" / "scenarios.md").read_text()
    block = re.search(r"```toml\n(.*?)```", text, re.DOTALL)
    assert block is not None
    (demo / "written.toml").write_text(block[1])
    ran = run("compare", "--scenario", "written.toml", cwd=demo)
    assert ran.code == 0 and "small models" in ran.out, ran.err
    for line in re.findall(r"^zeitbuch (.*)$", text, re.MULTILINE):
        assert run(*line.split(), cwd=demo).code == 0, line
    from zeitbuch.core.estimate.scenario_records import AnyChange

    documented = set(re.findall(r"^\| `([a-z ]+)` \|", text, re.MULTILINE))
    assert documented - {"do"} == {kind.__struct_config__.tag for kind in AnyChange.__args__}


def test_command_of_the_worked_example_runs(run: Run) -> None:
    line = re.search(r"```sh\nzeitbuch (.*)\n```", (ROOT / "docs" / "worked-example.md").read_text())
    assert line is not None
    ran = run(*line[1].split(), cwd=ROOT)
    assert ran.code == 0 and "Harbour helper" in ran.out, ran.err


def test_quantities_of_the_arithmetic_page_are_the_ones_in_use() -> None:
    from zeitbuch.core.assumptions import quantities as q

    text = " ".join((ROOT / "docs" / "arithmetic.md").read_text().split())
    for words in (
        f"label {q.OUTPUT_BY_TASK['label']:g}", f"extract {q.OUTPUT_BY_TASK['extract']:g}", f"other answers {q.OUTPUT_OTHERWISE:g}",
        f"what a trigger hands on {q.SIZE_OF_TRIGGER:g}", f"a search {q.SIZE_BY_KIND['retrieve']:g}", f"a tool call {q.DEFAULTS['tool_call']:g}",
        f"a remembered message {q.DEFAULTS['message_size']:g}", f"a page {q.DEFAULTS['page_size']:g}", f"as {q.DEFAULTS['image_tokens']:g} tokens", f"at most {q.CYCLE_ROUNDS}",
    ):  # fmt: skip
        assert words in text, words


def shell(script: str, cwd: Path, **env: str) -> subprocess.CompletedProcess[str]:
    """A script with the program of this environment."""
    given = {**os.environ, "PATH": started().path(), "COLUMNS": "160", "XDG_CACHE_HOME": str(cwd / ".cache"), **env}
    return subprocess.run(
        ["bash", "-c", f"set -e\n{script}"], cwd=cwd, capture_output=True, text=True, check=False, env=given
    )


def test_commands_of_the_versions_docs_run_as_written(demo: Path, run: Run) -> None:
    recorded(demo, run)
    text = (ROOT / "docs" / "versions.md").read_text()
    done = shell("\n".join(re.findall(r"```sh\n(.*?)```", text, re.DOTALL)), demo)
    assert done.returncode == 0 and " error: " not in done.stderr and "Traceback" not in done.stderr, done.stderr
    old = demo / "october" / "kvarte" / "letters.json"
    assert (demo / "letters-of-october.json").read_bytes() == old.read_bytes()
    assert "left as it was" in done.stdout and "whole: " in done.stdout
    assert "no: 'Customer letters'" in done.stderr
    from zeitbuch.core.diff.change_types import CHANGE_KINDS

    for sign, weight in (("!", "risk"), ("*", "meaning"), (".", "note")):
        row = re.search(rf"^\| `{re.escape(sign)}` \| [^|]* \| ([^|]*) \|$", text, re.MULTILINE)
        assert row is not None
        assert set(row[1].strip().split(", ")) == {k for k, v in CHANGE_KINDS.items() if v.weight == weight}


GIT = """
git init -q . && git config user.email a@ferry.example && git config user.name Maren
cp -r october exports && git add zeitbuch.toml dialects rates.toml assumptions.toml exports && git commit -qm october
"""


def test_recipes_for_git_work_on_a_real_repository(demo: Path) -> None:
    text = (ROOT / "docs" / "versions.md").read_text()
    driver, outline = re.findall(r"```sh git\n(.*?)```", text, re.DOTALL)
    hook = re.search(r"```sh hook\n(.*?)```", text, re.DOTALL)
    assert hook is not None
    # Git starts the driver anew for every file: a few are enough.
    shutil.rmtree(demo / "october" / "strandline")
    shutil.rmtree(demo / "october" / "standards")
    workspace = demo / "zeitbuch.toml"
    workspace.write_text(re.sub(r"(?m)^sources = .*", 'sources = ["exports"]', workspace.read_text()))
    november = "cp -r november/kvarte exports/"
    done = shell(
        f"{GIT}{november}\n{driver}\ngit add exports && git commit -qm november && git log -p --ext-diff -1", demo
    )
    assert done.returncode == 0, done.stderr
    assert done.stdout.count("every hour → every 15 minutes") == 2, done.stdout
    done = shell(
        f"git config --unset diff.zeitbuch.command; echo '*.json diff=outline' > .gitattributes\n{outline}\ngit diff HEAD~1 -- exports",
        demo,
    )
    assert "-      every: 3600.0\n+      every: 900.0\n" in done.stdout, done.stdout

    (demo / ".git" / "hooks" / "pre-commit").write_text(hook[1])
    (demo / ".git" / "hooks" / "pre-commit").chmod(0o755)
    risky = f"""
{sys.executable} - <<'P'
import pathlib
p = pathlib.Path('exports/kvarte/letters.json'); p.write_text(p.read_text().replace('fulmar-large-2', 'fulmar-mini-2'))
P
git add exports/kvarte/letters.json
git commit -qm risky
"""
    done = shell(risky, demo)
    assert done.returncode == 1 and "to review" in done.stderr + done.stdout, done
    calm = shell(
        "git checkout -q HEAD -- exports && git commit -q --allow-empty -m calm && git log --oneline | head -1", demo
    )
    assert "calm" in calm.stdout, calm.stderr


def test_versions_of_a_repository_are_sources(demo: Path, run: Run) -> None:
    assert shell(f"{GIT}cp -r november/. exports/ && git add exports", demo).returncode == 0
    for words in (
        ["git:HEAD:exports", "exports"],
        ["git:HEAD:exports", "git::exports"],
        ["git:HEAD:exports", "november"],
    ):
        ran = run("diff", *words, "--summary", cwd=demo)
        assert ran.code == 1 and "8 flows changed, 9 unchanged" in ran.out, (words, ran)
    assert run("diff", "git:HEAD:exports", "october", cwd=demo).code == 0
    assert run("inventory", "git:HEAD:exports/kvarte/letters.json", cwd=demo).out.count("Customer letters") == 1
    sub = run("diff", "git:HEAD:kvarte", "kvarte", cwd=demo / "exports")
    assert sub.code == 1 and "Customer letters" in sub.out, sub
    for source, said in (
        ("git:nosuch:exports", "none named 'nosuch'"),
        ("git:HEAD:nosuch", "in the revision"),
        ("git:HEAD:../x", "within the repository"),
        ("git:--output=x:y", "expected a revision"),
    ):
        ran = run("inventory", source, cwd=demo)
        assert ran.code == 2 and said in ran.err and "[git]" in ran.err, ran
    ran = run("inventory", "git:HEAD:exports", cwd=demo.parent)
    assert ran.code == 2 and "[git]" in ran.err


def test_hooks_of_the_definition_are_commands_that_exist() -> None:
    import shlex

    import yaml

    from zeitbuch.cli.command_table import COMMANDS

    hooks = yaml.safe_load((ROOT / ".pre-commit-hooks.yaml").read_text())
    assert [h["id"] for h in hooks] == ["zeitbuch-risk", "zeitbuch-cost", "zeitbuch-record"]
    assert all(shlex.split(h["entry"])[:1] == ["zeitbuch"] and shlex.split(h["entry"])[1] in COMMANDS for h in hooks)


def test_commands_of_the_usage_docs_run_as_written(demo: Path, run: Run) -> None:
    from zeitbuch.core.actuals.columns import USAGE_COLUMNS
    from zeitbuch.core.actuals.reasons import REASONS, ReasonCode
    from zeitbuch.core.actuals.usage_mapping import UsageMapping
    from zeitbuch.readers.usage.mapping_file import load_usage_mapping

    text = (ROOT / "docs" / "usage.md").read_text()
    for line in "\n".join(re.findall(r"```sh\n(.*?)```", text, re.DOTALL)).splitlines():
        assert not line.strip() or " error: " not in run_line(line, demo, run)
    assert (demo / "why.xlsx").exists()
    told = [
        tuple(cell.strip() for cell in line.split("|")[1:-1]) for line in text.splitlines() if line.startswith("| `")
    ]
    assert {(f"`{row.code}`", row.about, row.remedy) for row in REASONS} <= set(told)
    assert {row.code for row in REASONS} == set(ReasonCode.__args__)  # type: ignore[attr-defined]
    named = set(re.findall(r"`(?:\[+)?([a-z_]+)(?:\]+)?`", text))
    assert {row.name for row in USAGE_COLUMNS} | set(UsageMapping.__struct_fields__) - {"usage", "name"} <= named
    toml, other, there = [block for block in re.findall(r"```toml\n(.*?)```", text, re.DOTALL) if "usage = 1" in block]
    (demo / "usage" / "docs.toml").write_text(toml)
    (demo / "usage" / "traces.toml").write_text(other)
    assert load_usage_mapping(str(demo / "usage" / "traces.toml")).form == "otlp"
    (demo / "usage" / "lake.toml").write_text(there)
    assert load_usage_mapping(str(demo / "usage" / "lake.toml")).table == "usage.calls"
    ran = run("usage", "test", "--mapping", "usage/docs.toml", cwd=demo)
    assert ran.code == 0 and "172.39 EUR" in ran.out
    figures = run("reconcile", cwd=demo).out
    for said in ("192.95", "214.26", "-24.68", "-12.61", "1.94", "1.12 times"):
        assert said in figures


TASKS = sorted((ROOT / "docs" / "tasks").glob("*.md"))


@pytest.mark.parametrize("page", TASKS, ids=lambda page: page.stem)
def test_commands_of_the_tasks_run_as_written(page: Path, demo: Path, run: Run) -> None:
    blocks = re.findall(r"```sh\n(.*?)```", page.read_text(), re.DOTALL)
    lines = [line.strip() for block in blocks for line in block.splitlines() if line.strip()]
    assert len(lines) >= 6
    for line in lines:
        assert " error: " not in run_line(line, demo, run), line


def test_schemas_of_the_editor_page_are_written_as_it_says(demo: Path, run: Run) -> None:
    page = (ROOT / "docs" / "editors.md").read_text()
    lines = re.findall(r"^zeitbuch .*$", re.findall(r"```sh\n(.*?)```", page, re.DOTALL)[0], re.MULTILINE)
    for line in lines:
        run_line(line, demo, run)
    written = {path.name for path in (demo / "schemas").iterdir()}
    named = set(re.findall(r"[a-z-]+\.schema\.json", page))
    assert named == written and len(lines) == len(written)
    (demo / "rates.toml").write_text(f"#:schema ./schemas/rates.schema.json\n{(demo / 'rates.toml').read_text()}")
    assert run("estimate", "--runs", "0", cwd=demo).code == 0


def test_the_site_is_built_whole_and_asks_nothing_of_a_network(tmp_path: Path) -> None:
    command = [
        sys.executable,
        "-m",
        "mkdocs",
        "build",
        "--strict",
        "-q",
        "-f",
        str(ROOT / "mkdocs.yml"),
        "-d",
        str(tmp_path / "site"),
    ]
    done = subprocess.run(command, capture_output=True, text=True, cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    pages = list((tmp_path / "site").rglob("*.html"))
    assert len(pages) > 40
    for page in pages:
        fetched = re.findall(r"""<(?:script|link|img)[^>]*(?:src|href)=["'](?:https?:)?//[^"']*""", page.read_text())
        assert not fetched, (page.name, fetched)
    listed = (ROOT / "mkdocs.yml").read_text()
    for page in (ROOT / "docs").glob("*.md"):
        assert f" {page.name}\n" in listed, f"{page.name} stands nowhere in the site"
