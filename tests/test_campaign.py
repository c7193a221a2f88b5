"""Proposals for made-up builders whose words, structures and files were drawn apart from those used for fitting, and how sure they say
to be. The whole campaign is `tests/campaign/run.py`, the table of stated against right `tests/campaign/fit.py --check`."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

import pytest

from campaign.answers import Owner
from campaign.claims import JudgedClaim, judge_claims
from campaign.estates import judge_estate, make_estate, shares
from conftest import draws

SEEDS = range(16)
# (precision, recall) that a pool must reach, with trade words in the operations and without.
WANTED = {
    True: {
        "flows": (0.95, 0.95), "states": (0.95, 0.85), "steps": (0.98, 0.98), "links": (0.93, 0.92), "triggers": (0.95, 0.95), "trigger kinds": (0.95, 0.93),
        "schedules": (0.98, 0.7), "prompts": (0.95, 0.95), "models": (0.97, 0.97), "kinds": (0.95, 0.92), "off": (0.9, 0.9), "ai": (0.95, 0.95),
        "waits": (0.97, 0.9), "limits": (0.97, 0.6), "retries": (0.97, 0.95), "approvers": (0.97, 0.95), "silences": (0.97, 0.9),
        "recipients": (0.97, 0.6), "handlers": (0.97, 0.95), "rounds": (0.98, 0.4),
    },
    False: {
        "flows": (0.95, 0.95), "states": (0.95, 0.85), "steps": (0.97, 0.97), "links": (0.9, 0.87), "triggers": (0.95, 0.88), "prompts": (0.95, 0.93),
        "models": (0.95, 0.93), "kinds": (0.9, 0.1), "off": (0.9, 0.9), "ai": (0.95, 0.93), "rounds": (0.98, 0.3),
    },
}  # fmt: skip
# Builders with words of their own for on and off are asked about, not guessed: see the test of switches below.
ASKED = {("off", False): (0.98, 0.6)}


@pytest.mark.parametrize("words", [True, False], ids=["trade words", "no trade words"])
@pytest.mark.parametrize("fitted", [True, False], ids=["fitted", "held out"])
def test_builders_never_seen(fitted: bool, words: bool, tmp_path: Path) -> None:
    total: Counter[str] = Counter()
    for seed in SEEDS:
        total += judge_estate(make_estate(tmp_path / str(seed), seed, fitted, words)).counts
    found = shares(total)
    assert total["steps wanted"] > 350
    for part, wanted in WANTED[words].items():
        precision, recall = ASKED.get((part, fitted), wanted)
        assert found[part][0] >= precision and found[part][1] >= recall, (part, found)


def test_stated_certainty_is_right_on_builders_never_seen(tmp_path: Path) -> None:
    claims: list[JudgedClaim] = []
    for seed in range(900, 912):
        for words in (True, False):
            for few in (True, False):
                made = make_estate(tmp_path / f"{seed}{words}{few}", seed, False, words, few=few)
                claims += judge_claims(made, judge_estate(made))
    assert len(claims) > 450
    for low, high, least, most in ((0.0, 0.5, 0.0, 0.6), (0.85, 0.95, 0.8, 1.0), (0.95, 1.0, 0.96, 1.0)):
        inside = [one.right for one in claims if low <= one.claim.probability < high]
        assert len(inside) > 8
        assert least <= sum(inside) / len(inside) <= most, (low, high, sum(inside), len(inside))


def test_ten_answers_tell_what_steps_do_where_no_word_does(tmp_path: Path) -> None:
    total: Counter[str] = Counter()
    before: Counter[str] = Counter()
    for seed in range(8):
        made = make_estate(tmp_path / str(seed), seed, False, words=False)
        before += judge_estate(made).counts
        total += judge_estate(made, Owner(made)).counts
    first, then = shares(before)["kinds"], shares(total)["kinds"]
    assert first[1] < 0.5 and then[1] > 0.85 and then[0] > 0.95, (first, then)


def test_intervals_without_a_unit_are_asked_and_read_once_answered(tmp_path: Path) -> None:
    """Before, what is claimed of schedules is right; after answers nearly all of them are read."""
    before: Counter[str] = Counter()
    total: Counter[str] = Counter()
    for seed in range(draws(10, 16)):
        made = make_estate(tmp_path / str(seed), seed, False, words=True)
        before += judge_estate(made).counts
        total += judge_estate(made, Owner(made)).counts
    first, then = shares(before)["schedules"], shares(total)["schedules"]
    assert first[0] > 0.97 and then[1] > max(0.93, first[1]) and then[0] > 0.97, (first, then)


def test_switches_in_words_of_no_language_are_asked_and_read_once_answered(tmp_path: Path) -> None:
    before: Counter[str] = Counter()
    total: Counter[str] = Counter()
    for seed in SEEDS:
        made = make_estate(tmp_path / str(seed), seed, False, words=True)
        if made.flows[0].spelled == ("afloat", "docked"):
            before += judge_estate(made).counts
            total += judge_estate(made, Owner(made)).counts
    first, then = shares(before)["off"], shares(total)["off"]
    assert total["off wanted"] > 8 and first[1] < 0.5
    assert then[0] > 0.98 and then[1] > 0.9, (first, then)


def test_what_steps_repeat_themselves_for_is_asked_and_read_once_answered(tmp_path: Path) -> None:
    total: Counter[str] = Counter()
    for seed in SEEDS:
        made = make_estate(tmp_path / str(seed), seed, False, words=True)
        if any("rounds" in box.facts for flow in made.flows for box in flow.every):
            total += judge_estate(made, Owner(made)).counts
    found = shares(total)["rounds"]
    assert total["rounds wanted"] > 20 and found[0] > 0.98 and found[1] > 0.9, found


def test_with_trade_words_next_to_nothing_is_asked(tmp_path: Path) -> None:
    asked = []
    for seed in range(8):
        proposal = judge_estate(make_estate(tmp_path / str(seed), seed, False, words=True)).proposal
        assert proposal is not None
        asked.append(len(proposal.made.questions))
    assert sum(asked) <= 2 * len(asked)
