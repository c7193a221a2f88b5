"""Write a made-up estate in shape (a), a flat list of stations with lines: python benchmarks/make_estate.py FOLDER [FLOWS]."""

import json
import random
import sys
from pathlib import Path

WORDS = [
    "harbour",
    "berth",
    "ship",
    "letter",
    "passenger",
    "ticket",
    "crew",
    "delay",
    "weather",
    "rota",
    "load",
    "paper",
    "stamp",
    "page",
    "answer",
    "question",
    "write",
    "read",
    "check",
    "short",
    "friendly",
    "never",
    "always",
    "before",
    "after",
    "if",
    "then",
    "sailing",
    "officer",
    "handbook",
    "chapter",
]


def words(draw: random.Random, n: int) -> str:
    return " ".join(draw.choice(WORDS) for _ in range(n))


def flow(at: int, draw: random.Random, size: int = 23_000) -> dict:
    """One sheet of about ``size`` bytes of JSON, with prompts, tables and mail."""
    stations, lines = [], []
    kinds = ("model.ask", "table.find", "table.add", "web.call", "mail.send", "choose.one", "model.ask")
    length = 0
    while length < size - 1500:
        i = len(stations)
        does = "mailbox.poll" if i == 0 else kinds[i % len(kinds)]
        given: dict = {"mooring": f"m{i % 4}"}
        if does == "mailbox.poll":
            given |= {"minutes": 5, "folder": "Inbox", "at_most": 20}
        elif does == "model.ask":
            given |= {
                "engine": draw.choice(("fulmar-large-2", "fulmar-mini-2")),
                "warmth": 0.2,
                "longest": 400,
                "briefing": words(draw, 110),
                "ask": f"{words(draw, 20)}\n%[s{i - 1}.body]%",
            }
        elif does == "choose.one":
            given |= {
                "on": f"%[s{i - 1}.count]%",
                "ways": [{"exit": f"w{k}", "says": words(draw, 2), "test": f"count = {k}"} for k in range(3)],
            }
        else:
            given |= {"table": "requests", "where": f"x >= %[s{i - 1}.date]%", "at_most": 8, "text": words(draw, 30)}
            given["row"] = {w: draw.random() for w in draw.sample(WORDS, 6)}
        station = {
            "ref": f"s{i}",
            "label": words(draw, 3),
            "does": does,
            "with": given,
            "again": {"times": 2, "pause": 10},
            "spot": {"x": 120 + 40 * (i % 3), "y": 80 + 130 * i},
            "shade": "slate",
        }
        stations.append(station)
        length += len(json.dumps(station, indent=1))
        if i:
            via = {"via": "w1"} if stations[i - 1]["does"] == "choose.one" else {}
            lines.append({"out": f"s{i - 1}", "in": f"s{i}", **via})
            length += 60
    return {
        "strandline": {"edition": "7.2"},
        "sheet": {
            "ref": f"SH-{at:05d}",
            "heading": f"{words(draw, 3)} {at}",
            "about": words(draw, 12),
            "running": draw.random() < 0.8,
            "keepers": [draw.choice(("Sanna Brekke", "Ivar Lunde", "Ola Tveit", "Maren Dahl"))],
            "drawer": "Operations",
            "touched": "2026-11-12T08:15:00+01:00",
            "moorings": [
                {"ref": f"m{k}", "label": words(draw, 2), "sort": "table store", "as": "svc"} for k in range(4)
            ],
            "stations": stations,
            "lines": lines,
        },
    }


def write(folder: Path, count: int, size: int = 23_000) -> int:
    """Write ``count`` flows of about ``size`` bytes; returns the bytes written."""
    draw = random.Random(20261124)
    folder.mkdir(parents=True, exist_ok=True)
    total = 0
    for at in range(count):
        text = json.dumps(flow(at, draw, size), indent=1)
        (folder / f"sheet-{at:05d}.json").write_text(text)
        total += len(text)
    return total


JOBS = {"model.ask": "llm.generate", "mailbox.poll": "clock.interval", "choose.one": "route.switch"}


def write_one(path: Path, size: int) -> int:
    """One file of about ``size`` bytes with many flows in shape (e), steps that point on; returns the bytes written."""
    draw = random.Random(20261125)
    total = at = 0
    with path.open("w") as file:
        file.write('{"pilotline": 1, "routes": [')
        while total < size:
            sheet = flow(at, draw)["sheet"]
            stations = sheet["stations"]
            legs = [
                {
                    "leg": s["ref"],
                    "name": s["label"],
                    "job": JOBS.get(s["does"], "http.get"),
                    "with": s["with"],
                    "to": f"s{i + 1}" if i + 1 < len(stations) else None,
                }
                for i, s in enumerate(stations)
            ]
            text = json.dumps(
                {"route": sheet["ref"], "name": sheet["heading"], "status": "running", "legs": legs}, indent=1
            )
            file.write(("," if at else "") + text)
            total += len(text) + 1
            at += 1
        file.write("]}")
    return total


if __name__ == "__main__":
    if len(sys.argv) < 2 or sys.argv[1].startswith("-"):
        sys.exit("usage: python benchmarks/make_estate.py FOLDER [FLOWS]")
    n = int(sys.argv[2]) if len(sys.argv) > 2 else 2000
    print(f"{write(Path(sys.argv[1]), n) / n:,.0f} bytes a flow")
