"""The recipes for git in a repository like those that people have: other JSON files, a workspace in a folder, a submodule, nothing
committed yet; and the pre-commit program itself."""

from __future__ import annotations

import json
import re
import shutil
import sys
from pathlib import Path

import pytest

from test_docs import ROOT, shell
from test_unreadable import flow

TEXT = (ROOT / "docs" / "versions.md").read_text()
HOOK = re.search(r"```sh hook\n(.*?)```", TEXT, re.DOTALL)[1]  # type: ignore[index]
MERGE = re.search(r"```sh git-merge\n(.*?)```", TEXT, re.DOTALL)[1]  # type: ignore[index]
DRIVER, OUTLINE = re.findall(r"```sh git\n(.*?)```", TEXT, re.DOTALL)
BEGIN = "git init -q . && git config user.email a@ferry.example && git config user.name Maren && git config commit.gpgsign false && echo .cache >> .git/info/exclude\n"


def text_of(flow_bytes: bytes) -> str:
    return json.dumps(json.loads(flow_bytes), indent=2) + "\n"


def model_step(name: str) -> list[dict[str, object]]:
    return [{"id": "m", "kind": "model", "name": "Ask", "model": {"name": name}}]


@pytest.fixture
def repository(tmp_path: Path) -> Path:
    """A repository with a program, its CI files, and flows in a folder of their own with a workspace."""
    (tmp_path / "package.json").write_text('{"name": "desk", "version": "1.0.0"}\n')
    (tmp_path / ".github").mkdir()
    (tmp_path / ".github" / "ci.yml").write_text("on: push\n")
    (tmp_path / "tsconfig.json").write_text("{ // a comment\n}\n")
    (tmp_path / "picture.json").write_bytes(b"\0\1\2")
    (tmp_path / "flows" / "exports").mkdir(parents=True)
    (tmp_path / "flows" / "zeitbuch.toml").write_text('sources = ["exports"]\n')
    (tmp_path / "flows" / "exports" / "a.json").write_text(text_of(flow("a", steps=model_step("m1"))))
    return tmp_path


def hooked(folder: Path, where: str = "flows") -> None:
    hook = folder / ".git" / "hooks" / "pre-commit"
    hook.write_text(HOOK.replace("exec ", f"cd {where}\nexec "))
    hook.chmod(0o755)


def test_the_first_commit_and_the_next(repository: Path) -> None:
    assert shell(BEGIN, repository).returncode == 0
    hooked(repository)
    # A first commit without flows is none of the hook's business; one with a flow that is new needs review.
    done = shell("git add package.json .github && git commit -qm first", repository)
    assert done.returncode == 0 and not done.stderr, done
    done = shell("git add flows && git commit -qm flows", repository)
    assert done.returncode == 1 and "1 change to review (flow added)" in done.stderr + done.stdout, done
    assert shell("git commit -qm flows --no-verify", repository).returncode == 0
    # Files that are no sources are committed without a word, whatever they are.
    done = shell("git add . && git commit -qm rest", repository)
    assert done.returncode == 0 and not done.stderr and not done.stdout, done
    (repository / "flows" / "exports" / "a.json").write_text(text_of(flow("a", steps=model_step("m2"))))
    done = shell("git commit -qm none --allow-empty", repository)  # not staged
    assert done.returncode == 0, done
    done = shell("git add -A && git commit -qm model", repository)
    assert done.returncode == 1 and "(model)" in done.stderr + done.stdout, done
    (repository / "flows" / "exports" / "a.json").write_text(
        text_of(flow("a", steps=model_step("m1"), description="Now said."))
    )
    assert shell("git add -A && git commit -qm words", repository).returncode == 0
    # The workspace file and a dialect decide what is read.
    (repository / "flows" / "zeitbuch.toml").write_text('sources = ["exports"]\n# said\n')
    assert shell("git add -A && git commit -qm ws", repository).returncode == 0


def test_a_first_commit_that_brings_the_flows(repository: Path) -> None:
    shell(BEGIN, repository)
    hooked(repository)
    done = shell("git add . && git commit -qm all", repository)
    assert done.returncode == 1 and "flow added" in done.stderr + done.stdout and "HEAD" not in done.stderr, done


def test_drivers_show_every_file_and_never_fail(repository: Path) -> None:
    lines = DRIVER.splitlines()
    setup = "\n".join(line for line in lines if not line.startswith(("git diff", "git log")))
    shell(f"{BEGIN}{setup}\ngit add . && git commit -qm one", repository)
    (repository / "flows" / "exports" / "a.json").write_text(text_of(flow("a", steps=model_step("m2"))))
    (repository / "package.json").write_text('{"name": "desk", "version": "1.0.1"}\n')
    (repository / "tsconfig.json").write_text("{ // another comment\n}")
    (repository / "picture.json").write_bytes(b"\0\1\3")
    (repository / "flows" / "exports" / "b.json").write_text("{ cut")
    shell("git add -N flows", repository)
    for command in (
        "git diff",
        "git add -A && git commit -qm two && git log -p --ext-diff -1",
        "git show --ext-diff HEAD",
    ):
        done = shell(command, repository)
        assert done.returncode == 0 and not done.stderr, done
        assert "model: ‘Ask’: m1 → m2" in done.stdout
        assert '-{"name": "desk", "version": "1.0.0"}\n+{"name": "desk", "version": "1.0.1"}' in done.stdout
        assert "+{ // another comment" in done.stdout and "No newline at end of file" in done.stdout
        assert "Binary files a/picture.json and b/picture.json differ" in done.stdout and "+{ cut" in done.stdout
    # Removed, renamed and not merged.
    done = shell(
        "git mv flows/exports/a.json flows/exports/c.json && git rm -q package.json && git diff --cached -M", repository
    )
    assert done.returncode == 0 and "-" in done.stdout and "Traceback" not in done.stderr, done
    script = """
git commit -qm three && git checkout -q -b side HEAD~1
sed -i 's/m2/m3/' flows/exports/a.json && git commit -qam side
git checkout -q - && sed -i 's/m2/m4/' flows/exports/c.json && git commit -qam main
git merge side || true
git diff
"""
    done = shell(script, repository)
    assert done.returncode == 0 and "fatal" not in done.stderr, done


def test_textconv_shows_outlines_and_other_files_as_they_are(repository: Path) -> None:
    shell(f"{BEGIN}echo '*.json diff=outline' > .gitattributes\n{OUTLINE}\ngit add . && git commit -qm one", repository)
    (repository / "flows" / "exports" / "a.json").write_text(text_of(flow("a", steps=model_step("m2"))))
    (repository / "package.json").write_text('{"name": "desk", "version": "1.0.1"}\n')
    (repository / "picture.json").write_bytes(b"\0\1\3")
    done = shell("git diff && git log -p -1 && git diff --stat", repository)
    assert done.returncode == 0 and not done.stderr, done
    assert "-        name: m1\n+        name: m2\n" in done.stdout or re.search(
        r"-\s+name: m1\n\+\s+name: m2\n", done.stdout
    )
    assert '+{"name": "desk", "version": "1.0.1"}' in done.stdout


def test_submodules_and_folders_are_no_hindrance(repository: Path, tmp_path_factory: pytest.TempPathFactory) -> None:
    other = tmp_path_factory.mktemp("other")
    shell(f"{BEGIN}git commit -q --allow-empty -m x", other)
    done = shell(f"{BEGIN}git -c protocol.file.allow=always submodule add -q {other} flows/exports/theirs", repository)
    assert done.returncode == 0, done
    hooked(repository)
    done = shell("git add . && git commit -qm one --no-verify && cd flows && zeitbuch diff --staged", repository)
    assert done.returncode == 0 and "touches no source" in done.stderr, done
    (repository / "flows" / "exports" / "a.json").write_text(text_of(flow("a", steps=model_step("m2"))))
    done = shell("git add . && cd flows/exports && zeitbuch diff --staged --fail-on risk", repository)
    assert done.returncode == 1 and "model: ‘Ask’: m1 → m2" in done.stdout, done
    done = shell("cd /tmp && mkdir -p none.$$ && cd none.$$ && zeitbuch diff --staged", repository)
    assert done.returncode == 2 and "Traceback" not in done.stderr


@pytest.mark.skipif(
    shutil.which("pre-commit") is None and not (Path(sys.executable).parent / "pre-commit").exists(),
    reason="no pre-commit",
)
def test_the_hooks_run_by_pre_commit_itself(repository: Path) -> None:
    """The entries of our hook file, word by word; only that the program is installed already is ours."""
    hooks = (ROOT / ".pre-commit-hooks.yaml").read_text().replace("language: python", "language: system")
    blocks = re.split(r"(?m)^- ", hooks)[1:]
    local = "".join(
        "      - " + block.rstrip().replace("\n  ", "\n        ") + "\n" for block in blocks if "risk" in block
    )
    (repository / "zeitbuch.toml").write_text('sources = ["flows/exports"]\n')
    (repository / ".pre-commit-config.yaml").write_text(f"repos:\n  - repo: local\n    hooks:\n{local}")
    done = shell(
        f"{BEGIN}pre-commit install && git add package.json zeitbuch.toml .pre-commit-config.yaml && git commit -m one",
        repository,
    )
    assert done.returncode == 0 and "Passed" in done.stdout + done.stderr, done
    done = shell("git add . && git commit -m two", repository)
    assert (
        done.returncode == 1 and "Failed" in done.stdout + done.stderr and "flow added" in done.stdout + done.stderr
    ), done
    done = shell("git commit -m two --no-verify", repository)
    assert done.returncode == 0, done
    (repository / "package.json").write_text('{"name": "desk", "version": "1.0.1"}\n')
    done = shell("git commit -am three", repository)
    assert done.returncode == 0 and "Passed" in done.stdout + done.stderr, done


def test_authors_and_times_come_from_git(repository: Path) -> None:
    """A history recorded commit by commit: when and by whom a state was made, and who changed each flow."""
    made = "GIT_AUTHOR_NAME='{0}' GIT_AUTHOR_DATE='{1}' GIT_COMMITTER_DATE='{1}' git commit -qm x"
    shell(f"{BEGIN}git add . && {made.format('Maren Dahl', '2026-01-05T10:00:00+01:00')}", repository)
    (repository / "flows" / "exports" / "b.json").write_text(text_of(flow("b", steps=model_step("m1"))))
    shell(f"git add . && {made.format('Ola Tveit', '2026-02-05T10:00:00+01:00')}", repository)
    (repository / "flows" / "exports" / "a.json").write_text(text_of(flow("a", steps=model_step("m2"))))
    shell(f"git add . && {made.format('Sanna Brekke', '2026-03-05T10:00:00+01:00')}", repository)
    book = "--book ../book.sqlite"
    done = shell(
        "\n".join(f"cd {repository}/flows && zeitbuch record git:HEAD~{n}:exports {book}" for n in (2, 1, 0)),
        repository,
    )
    assert done.returncode == 0, done
    rows = json.loads(shell(f"cd flows && zeitbuch history {book} -f json", repository).stdout)["rows"]
    assert [(row["who"], row["at"]) for row in rows] == [
        ("Maren Dahl", "2026-01-05T09:00:00Z"), ("Ola Tveit", "2026-02-05T09:00:00Z"), ("Sanna Brekke", "2026-03-05T09:00:00Z"),
    ]  # fmt: skip
    rows = json.loads(shell(f"cd flows && zeitbuch history a {book} -f json", repository).stdout)["rows"]
    assert [(row["version"], row["author"]) for row in rows] == [(1, "Maren Dahl"), (2, "Sanna Brekke")]
    done = shell(
        f"cd flows && zeitbuch history --verify {book} && zeitbuch record git::exports --by Ola {book}", repository
    )
    assert done.returncode == 0 and "nothing new" in done.stdout, done


def native(folder: Path, name: str, *flows: bytes) -> Path:
    """A file in the native form as the program writes it."""
    (folder / "raw").mkdir(exist_ok=True)
    for old in (folder / "raw").iterdir():
        old.unlink()
    for number, one in enumerate(flows):
        (folder / "raw" / f"{number}.json").write_bytes(one)
    done = shell(f"zeitbuch convert raw -o {name} -q", folder)
    assert done.returncode == 0, done
    return folder / name


def merged(
    folder: Path, ours: tuple[bytes, ...], theirs: tuple[bytes, ...], base: tuple[bytes, ...]
) -> tuple[int, str]:
    """What git makes of two branches of one native file: its exit status, and the file."""
    shell(f"{BEGIN}echo raw >> .git/info/exclude\n{MERGE}", folder)
    native(folder, "x.flow.yaml", *base)
    shell("git add . && git commit -qm base && git checkout -q -b theirs", folder)
    native(folder, "x.flow.yaml", *theirs)
    shell("git commit -qam theirs && git checkout -q -", folder)
    native(folder, "x.flow.yaml", *ours)
    shell("git commit -qam ours", folder)
    done = shell("git merge -q theirs -m merged", folder)
    return done.returncode, (folder / "x.flow.yaml").read_text()


def steps(model: str, *more: str, prompt: str = "Answer the letters.") -> list[dict[str, object]]:
    made: list[dict[str, object]] = [
        {
            "id": "m",
            "kind": "model",
            "name": "Ask",
            "model": {"name": model, "prompts": [{"role": "system", "text": prompt}]},
        }
    ]
    return made + [{"id": key, "kind": "http", "name": key.title(), "effect": "write"} for key in more]


def test_the_merge_driver_merges_what_does_not_meet(tmp_path: Path) -> None:
    """The model of ours and the prompt of theirs stand in neighbouring lines: git alone calls it a conflict."""
    base = flow("a", steps=steps("m1")), flow("b", steps=steps("m1")), flow("c")
    ours = flow("a", steps=steps("m2")), flow("b", steps=steps("m1")), flow("c")
    theirs = (
        flow("a", steps=steps("m1", prompt="Answer the letters in Norwegian.")),
        flow("b", steps=steps("m1", "log")),
        flow("d"),
    )
    code, text = merged(tmp_path, ours, theirs, base)
    assert code == 0 and "name: m2" in text and "in Norwegian" in text and "name: Log" in text and "<<<<" not in text
    assert "id: d\n" in text and "id: c\n" not in text
    done = shell("zeitbuch diff git:HEAD^1:x.flow.yaml x.flow.yaml -f jsonl", tmp_path)
    kinds = sorted(json.loads(line)["type"] for line in done.stdout.splitlines())
    assert kinds == ["flow added", "flow removed", "prompt", "rights widened", "step added"]


def test_the_merge_driver_leaves_contradictions_and_foreign_files_to_git(tmp_path: Path) -> None:
    for number, (ours, theirs) in enumerate(((steps("m2"), steps("m3")), (steps("m2"), []))):
        folder = tmp_path / str(number)
        folder.mkdir()
        code, text = merged(
            folder, (flow("a", steps=ours),), (flow("a", steps=theirs),), (flow("a", steps=steps("m1")),)
        )
        assert code == 1 and "<<<<<<< ours" in text and ">>>>>>> theirs" in text
    # A file with a comment is not as we write it: git merges its lines, and the comment stays.
    folder = tmp_path / "comment"
    folder.mkdir()
    shell(f"{BEGIN}echo raw >> .git/info/exclude\n{MERGE}", folder)
    path = native(folder, "x.flow.yaml", flow("a", steps=steps("m1")))
    path.write_text(f"# by hand\n{path.read_text()}")
    shell("git add . && git commit -qm base && git checkout -q -b theirs", folder)
    path.write_text(path.read_text().replace("# by hand", "# by other hands"))
    shell("git commit -qam theirs && git checkout -q -", folder)
    path.write_text(path.read_text().replace("m1", "m2"))
    done = shell("git commit -qam ours && git merge -q theirs -m merged", folder)
    assert done.returncode == 0 and path.read_text().startswith("# by other hands\n") and "m2" in path.read_text()
