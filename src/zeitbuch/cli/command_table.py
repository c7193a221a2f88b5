# The one table of commands: a new command is one row, one module of options and one of work. The options are imported when
# the command is named, its work when they have been understood. Plain on purpose: `--help` imports no library.
"""The commands and their one line of help."""

from __future__ import annotations

# name, also that of its modules in cli.options and cli.commands -> what it is for
COMMANDS: dict[str, str] = {
    "demo": "write the demo estate and run every command on it",
    "init": "write a commented workspace: zeitbuch.toml, rate card, assumptions",
    "inventory": "list the flows: their triggers, steps, models, pattern",
    "list": "list connections, prompts, models, tools, hosts, people ... with where they are used",
    "map": "draw the step graph of flows (SVG, PNG, HTML, text, ...)",
    "explain": "say in plain words what a flow or a step does",
    "estimate": "passes, model calls, tokens and cost per run and per month",
    "compare": "put scenarios beside the estimate: other model, slower poll, other host, ...",
    "diff": "say what changed in meaning between two versions, and what it does to cost",
    "check": "find what is wrong or dangerous, with what to do",
    "impact": "say what hangs on a model, connection, flow, person ...: what stops, and whom to tell",
    "document": "write a document per flow for people to review (Markdown, HTML)",
    "brief": "write what a writing assistant may see of a flow; take its text back as a draft",
    "record": "take a snapshot of the sources into the book",
    "history": "list snapshots, or the versions of a flow; verify, export the book",
    "review": "sign descriptions, and say which signatures still hold",
    "restore": "write a recorded export back, byte for byte",
    "usage": "propose and try mappings of usage logs, and what their names are in the estate",
    "reconcile": "hold the estimate against usage logs, and explain the difference",
    "calibrate": "measure assumptions on usage logs, and see how well they predict",
    "dialect": "propose, try and list dialects: how builders write their exports",
    "convert": "write any readable source in the native form or as BPMN",
    "completion": "print what makes a shell complete commands, options and names",
    "schema": "print the JSON Schema of a file format or a result",
}
