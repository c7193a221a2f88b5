# Written by tests/campaign/fit.py: do not edit. The weights of the evidence by part of a proposal, "" is the constant.
"""Fitted weights of evidence."""

WEIGHTS: dict[str, dict[str, float]] = {
    "flow name": {"": -0.38, "apart": 2.71, "blanks": 2.71, "several": -0.08, "word": 0.13},
    "flow state": {"": -0.42, "both": 0.01, "everywhere": 2.65, "known": 2.65, "word": 0.21},
    "id": {"": -0.02, "nested": 1.4, "referred": 3.34, "word": 0.64},
    "kind": {
        "": 2.38,
        "address and method": 2.41,
        "ahead": 0.91,
        "body": -4.79,
        "code": 2.45,
        "often": 0.58,
        "outlets": 1.4,
        "prompts": 1.67,
        "words": 4.98,
    },
    "links": {
        "": -0.85,
        "covered": 2.95,
        "direction": 1.69,
        "ends": -0.21,
        "nested": 2.43,
        "order": -0.4,
        "pointing": -0.49,
    },
    "model": {"": -2.66, "covered": 1.61, "found": 1.63, "single": 2.7, "word": 1.42},
    "operation": {"": -1.27, "known": -0.28, "linked": 0.42, "many": 0.27, "score": 3.46, "several": -0.04},
    "placeholders": {"": -0.04, "brackets": 3.26, "many": 1.59, "resolved": 1.95},
    "prompts": {"": -2.78, "covered": 4.45, "found": 1.56, "many": -3.52, "word": 1.86},
    "schedule": {"": 1.5, "cron": 2.7, "days": 2.21, "none": -2.82, "unit": 3.36},
    "steps": {"": -3.85, "known": 0.73, "linked": 2.14, "many": 1.7, "score": 3.89, "several": 0.75},
    "switched off": {"": 3.09, "everywhere": -3.91, "several": 0.11, "some off": 4.32, "word": 0.24},
    "trigger kind": {"": 0.4, "against": -0.45, "cron": 2.6, "silent": -1.28, "values": 0.75, "words": 5.02},
    "triggers": {"": -3.04, "apart": 1.5, "flows": 5.12, "found": 1.43, "score": 0.48, "several": 0.45, "words": -0.85},
}
