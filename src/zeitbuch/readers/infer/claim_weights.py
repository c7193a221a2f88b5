# Written by tests/campaign/fit.py: do not edit. The weights of the evidence by part of a proposal, "" is the constant.
"""Fitted weights of evidence."""

WEIGHTS: dict[str, dict[str, float]] = {
    "flow name": {"": -0.37, "apart": 2.73, "blanks": 2.73, "several": -0.34, "word": -0.12},
    "flow state": {"": -0.8, "both": 0.52, "everywhere": 3.23, "known": 2.07, "word": 0.76},
    "id": {"": -0.12, "nested": 1.34, "referred": 3.22, "word": 0.72},
    "kind": {"": 0.09, "ahead": 2.48, "body": -4.39, "often": 1.17, "outlets": 1.6, "prompts": 1.92, "words": 5.5},
    "links": {
        "": -0.88,
        "covered": 3.0,
        "direction": 1.73,
        "ends": 0.18,
        "nested": 2.37,
        "order": -0.52,
        "pointing": -0.85,
    },
    "model": {"": -3.04, "covered": 2.11, "found": 1.76, "single": 2.5, "word": 1.72},
    "operation": {"": -1.22, "known": -0.82, "linked": 0.24, "many": 0.45, "score": 4.02, "several": -0.36},
    "placeholders": {"": -0.05, "brackets": 3.25, "many": 1.56, "resolved": 1.97},
    "prompts": {"": -3.03, "covered": 4.46, "found": 1.77, "many": -2.45, "word": 1.04},
    "schedule": {"": 1.15, "cron": 3.02, "days": 2.43, "guessed": -0.74, "none": -2.92, "unit": 3.29},
    "steps": {"": -3.66, "known": 0.43, "linked": 1.77, "many": 1.92, "score": 4.23, "several": 0.47},
    "switched off": {"": 3.06, "everywhere": -4.16, "several": 0.28, "some off": 4.21, "word": 0.18},
    "trigger kind": {"": 0.52, "against": -0.37, "cron": 2.51, "silent": -1.18, "values": 0.77, "words": 4.98},
    "triggers": {
        "": -3.17,
        "apart": 1.19,
        "flows": 4.68,
        "found": 1.65,
        "score": 1.67,
        "several": 0.53,
        "words": -0.17,
    },
}
