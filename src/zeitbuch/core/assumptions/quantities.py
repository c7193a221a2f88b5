# The quantities that exports do not say, with their bounds and meaning, and what holds when nobody says anything.
"""Names, bounds and defaults of assumed quantities."""

from __future__ import annotations

from zeitbuch.core.model.kinds import STEP_KINDS

MONTHS = 12
MOST_PASSES = 1e15  # counts of sampled runs are whole numbers of 64 bits: they are cut there

QUANTITIES: dict[str, tuple[float, float, str]] = {
    "share": (0.0, 1.0, "probability that a case is taken"),
    "failure": (0.0, 1.0, "probability that one attempt of a step fails"),
    "timeout": (0.0, 1.0, "probability that one attempt of a step runs out of time"),
    "hit_rate": (0.0, 1.0, "share of the checks of a polling trigger that find something"),
    "accept_rate": (0.0, 1.0, "share of the events that the condition of a trigger lets through"),
    "items": (0.0, 1e9, "items that a loop goes over, an expanding step makes of one, or a trigger brings at once"),
    "rounds": (1.0, 1e9, "rounds of a loop that ends on a condition, before its cap"),
    "turns": (1.0, 1e9, "turns of an agent: model calls per pass"),
    "input": (0.0, 1e9, "tokens in of one model call, all of them, as a log has them"),
    "fixed_input": (0.0, 1e9, "tokens of the text that is the same in every call of a step"),
    "output": (0.0, 1e9, "tokens that a model step answers with"),
    "tool_call": (0.0, 1e9, "tokens that an agent writes for one call of a tool"),
    "tool_frame": (0.0, 1e9, "tokens by which a call describes one tool, beside the tool's own text"),
    "tool_share": (0.0, 1.0, "share of an agent's tool calls that go to a tool"),
    "messages": (0.0, 1e9, "messages of a conversation that a memory hands on"),
    "message_size": (0.0, 1e9, "tokens of a remembered message"),
    "page_size": (0.0, 1e9, "tokens of a page"),
    "letters_per_token": (0.1, 100.0, "letters of a token of text that is spoken or cut into pieces"),
    "letters_per_second": (0.1, 1000.0, "letters that are spoken in a second"),
    "reasoning": (0.0, 1e9, "hidden tokens of reasoning for each token of the answer"),
    "size": (0.0, 1e9, "tokens of what a step or trigger hands on, or of a placeholder"),
    "chunk": (1.0, 1e9, "tokens of a piece of a document that is embedded"),
    "overlap": (0.0, 1e9, "tokens that neighbouring pieces share"),
    "batch_size": (1.0, 1e9, "pieces embedded with one call"),
    "image_tokens": (0.0, 1e9, "tokens that an image counts as, where a vendor bills tokens"),
    "images": (0.0, 1e9, "images that a step hands to a model, or makes"),
    "video": (0.0, 1e9, "seconds of video that a step hands to a model, or makes"),
    "pages": (0.0, 1e9, "pages of a document that a step reads"),
    "sound": (0.0, 1e9, "seconds of sound that a step hears"),
    "seconds": (0.0, 1e9, "seconds that one pass of a step takes"),
    "megabytes": (0.0, 1e9, "megabytes that one pass of a step moves"),
    "cached": (0.0, 1.0, "share of the fixed part of prompts that is read from the vendor's cache"),
    "cached_input": (0.0, 1.0, "share of all tokens in that is read from the vendor's cache, as a log has it"),
    "batched": (0.0, 1.0, "share of the calls that are sent at the price of deferred batches"),
    "events": (0.0, 1e12, "events per month at a trigger, before its condition and its batches"),
    "runs": (0.0, 1e12, "runs per month that a trigger causes; for trigger = \"*\" all triggers of a flow and the calls by other flows together"),
}  # fmt: skip
# What quantities were called once: the message about an unknown key says the new name.
RENAMED: dict[str, str] = {"hits": "hit_rate", "admitted": "accept_rate", "together": "batch_size"}
# Known only from outside and the same for the whole month: their range is doubt, not change from run to run.
DOUBTFUL = frozenset(
    {
        "share",
        "failure",
        "timeout",
        "hit_rate",
        "accept_rate",
        "cached",
        "cached_input",
        "batched",
        "tool_share",
        "events",
        "runs",
    }
)

OUTPUT_BY_TASK: dict[str, float] = {
    "label": 10, "extract": 150, "summary": 180, "draft": 350, "rewrite": 350, "long text": 1200,
}  # fmt: skip
OUTPUT_OTHERWISE = 250.0
SIZE_BY_KIND: dict[str, float] = {row.kind: row.hands_on for row in STEP_KINDS}
SIZE_OTHERWISE = 100.0  # of what comes from no step
SIZE_OF_TRIGGER = 250.0
SIZE_OF_VARIABLE = 20.0
DEFAULTS: dict[str, float] = {
    "items": 10, "rounds": 3, "failure": 0, "timeout": 0, "hit_rate": 0.25, "images": 1, "video": 0, "pages": 1, "accept_rate": 0.5, "cached": 0,
    "batched": 0, "reasoning": 0, "seconds": 0, "sound": 60, "megabytes": 0, "chunk": 400, "overlap": 0, "batch_size": 1, "tool_call": 40,
    "tool_frame": 30, "messages": 5, "message_size": 150, "page_size": 500, "letters_per_token": 4, "letters_per_second": 15,
    "image_tokens": 800,
}  # fmt: skip
# Between what the mean of a default lies, where that is not from half to double.
DEFAULT_ENDS: dict[str, tuple[float, float]] = {"letters_per_token": (3.0, 5.0), "letters_per_second": (11.0, 19.0)}
SPREAD_OF_DEFAULTS = 0.5  # how far default sizes vary from run to run, as a part of themselves
DEFAULT_LOW, DEFAULT_HIGH = 0.5, 2.0  # a default may well be half or double
TURNS_LOW, TURNS_LIKELY, TURNS_HIGH = 1.0, 3.0, 10.0
FIELD_TOKENS = 30.0
CYCLE_ROUNDS = 100
MOST_SINGLE_ROUNDS = 1000  # of a loop that ends at a loss, gone through one by one in samples
