# Written by tests/campaign/fit.py: do not edit. The weights of the evidence by part of a proposal, "" is the constant.
"""Fitted weights of evidence."""

WEIGHTS: dict[str, dict[str, float]] = {
    "flow name": {"": 6.77, "apart": -0.0, "blanks": -0.0, "several": -0.9, "word": -0.78},
    "flow state": {"": 6.95, "both": -0.53, "everywhere": -0.0, "known": -0.0, "word": -0.47},
    "id": {"": -0.14, "nested": 1.47, "referred": 3.32, "word": 0.57},
    "kind": {"": 4.13, "ahead": -0.16, "body": -4.98, "often": 0.01, "prompts": 1.51, "outlets": 1.22, "words": 4.61},
    "links": {
        "": -0.68,
        "covered": 3.27,
        "direction": 1.28,
        "ends": -0.22,
        "nested": 1.18,
        "order": -1.02,
        "pointing": -0.53,
    },
    "model": {"": -2.96, "covered": 1.89, "found": 1.98, "single": 2.21, "word": 2.3},
    "operation": {"": -1.14, "known": -0.62, "linked": 0.32, "many": 0.42, "score": 3.63, "several": -0.25},
    "placeholders": {"": 21.47, "brackets": 0.0, "many": -0.0, "resolved": -0.0},
    "prompts": {"": -3.1, "covered": 4.34, "found": 1.72, "many": -2.26, "word": 1.87},
    "schedule": {"": 2.47, "cron": 1.9, "days": 1.88, "guessed": -3.22, "none": -2.8, "unit": 2.23},
    "steps": {"": -4.1, "known": 1.06, "linked": 2.24, "many": 1.3, "score": 4.01, "several": 1.14},
    "switched off": {"": 5.6, "everywhere": -4.59, "several": -1.08, "some off": 4.38, "word": -0.81},
    "trigger kind": {"": 1.42, "against": -0.86, "cron": 2.92, "silent": -1.66, "values": -0.24, "words": 4.38},
    "triggers": {
        "": -3.23,
        "apart": 1.44,
        "flows": 5.37,
        "found": 0.91,
        "score": 0.67,
        "several": 0.84,
        "words": -0.14,
    },
}
