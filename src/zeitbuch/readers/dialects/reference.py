# The one table of what the keys of a dialect mean: the JSON Schema takes its descriptions from here, docs/dialect-keys.md is written
# from it, and a test holds it equal to the types.
"""Reference of the dialect language."""

from __future__ import annotations

from typing import NamedTuple


class Key(NamedTuple):
    """One key: what it says, and an example as it is written in the file."""

    name: str
    words: str
    example: str


class TableOfKeys(NamedTuple):
    """One table of a dialect file: the type it is, how it is headed, what it is for, and its keys."""

    kind: str
    header: str
    words: str
    keys: tuple[Key, ...]


_FIELDS = (
    Key("model", "Where the model's name is.", 'model = "given.brain"'),
    Key(
        "prompts",
        "Where instruction texts are, each with its role.",
        'prompts = [{ path = "given.orders", role = "system" }]',
    ),
    Key("temperature", "Where the temperature is.", 'temperature = "given.warmth"'),
    Key("max_output", "Where the most tokens of an answer are.", 'max_output = "given.longest"'),
    Key("max_turns", "Where the most turns of an agent are.", 'max_turns = "given.rounds"'),
    Key("task", "Where the builder says what a model step is for.", 'task = "given.job"'),
    Key("condition", "Where the condition of a decision, or of a trigger, is.", 'condition = "given.test"'),
    Key(
        "cases",
        "Where the cases of a decision are, and what a case holds.",
        'cases = { at = "given.ways", outlet = "exit", label = "title" }',
    ),
    Key("items", "Where the list that a loop goes over is, or its name.", 'items = "given.over"'),
    Key("until", "Where the condition that ends a loop is.", 'until = "given.stop_when"'),
    Key("cap", "Where the most rounds of a loop are.", 'cap = "given.at_most"'),
    Key(
        "method",
        "Where the method of a call is, which says whether it may change something (RFC 9110); among the settings it stays an input.",
        'method = "given.verb"',
    ),
    Key("calls", "Where the flow that a step calls is named.", 'calls = "given.plan"'),
    Key(
        "cron",
        "Where a cron text, a recurrence rule (RFC 5545) or a repeating interval (ISO 8601) is.",
        'cron = "given.times"',
    ),
    Key("every", "Where the interval of a trigger is: a number, or a duration.", 'every = "given.count"'),
    Key(
        "every_unit", "The unit of an interval that is a bare number and has none beside it.", 'every_unit = "minutes"'
    ),
    Key("unit", "Where the unit of the interval stands.", 'unit = "given.of_what"'),
    Key(
        "units",
        "What the builder's words for units mean. Without it the usual English words are known.",
        'units = { Stunden = "hours" }',
    ),
    Key(
        "days",
        "Where the days of the week are, a list or a text with commas; not together with days of the month.",
        'days = "given.days"',
    ),
    Key(
        "weekdays",
        "What the builder's words for the days of the week mean. Without it their English names are known.",
        'weekdays = { man = "mon", tir = "tue" }',
    ),
    Key("month_days", "Where the days of the month are.", 'month_days = "given.dates"'),
    Key("time", "Where the time of the day is, or several: 08:30, 8.30, 8:30 pm.", 'time = "given.at"'),
    Key("zone", "Where the time zone is.", 'zone = "given.zone"'),
    Key(
        "event",
        "Where the event, address or form of a trigger is named; all values of a list are taken.",
        'event = "given.fields.*.name"',
    ),
    Key("batch", "Where the most items handed to one run are.", 'batch = "given.at_once"'),
    Key("authentication", "Where it says how a caller shows who it is.", 'authentication = "given.proof"'),
    Key("wait", "Where the time that a step waits is.", 'wait = "given.span"'),
    Key("wait_unit", "The unit of a wait that is a bare number.", 'wait_unit = "minutes"'),
    Key("wait_until", "Where the moment or event that a step waits for is.", 'wait_until = "given.event"'),
    Key("approvers", "Where those who are asked are, one or several.", 'approvers = "given.who"'),
    Key("approvals_needed", "Where it says how many must agree.", 'approvals_needed = "given.votes"'),
    Key("silence", "Where it says what no answer means.", 'silence = "given.silent"'),
    Key(
        "silences",
        "What the builder's words for that mean: approves, rejects, escalates or waits. Without it these are known.",
        'silences = { drop = "rejects" }',
    ),
    Key(
        "timeout_for", "Where it says whether a time limit is for one try or for all.", 'timeout_for = "given.limit_is"'
    ),
    Key(
        "timeouts_for",
        "What the builder's words for that mean: try or all. Without it these are known.",
        'timeouts_for = { whole = "all" }',
    ),
    Key(
        "sample", "Where the data kept for trying are that stand in for a step's result.", 'sample = "given.rehearsal"'
    ),
    Key("piece_size", "Where the size of the pieces is into which a text is cut.", 'piece_size = "given.size"'),
    Key("piece_overlap", "Where it says what neighbouring pieces share.", 'piece_overlap = "given.shared"'),
    Key("piece_unit", "What size and overlap are counted in.", 'piece_unit = "letters"'),
    Key("piece_batch", "Where it says how many pieces one call embeds.", 'piece_batch = "given.together"'),
    Key("pieces_found", "Where it says how many pieces a search gives.", 'pieces_found = "given.nearest"'),
    Key("store", "Where the store that is filled or searched is named.", 'store = "given.into"'),
    Key("concurrency", "Where the most rounds or branches at a time are.", 'concurrency = "given.side_by_side"'),
    Key("ordered", "Where it says that the ways of a step run one after the other.", 'ordered = "given.in_turn"'),
    Key("awaits", "Where it says whether a step waits for the flow it calls.", 'awaits = "given.stays"'),
    Key("on_item_fault", "Where it says what a loop does when an item fails.", 'on_item_fault = "given.broken"'),
    Key(
        "on_item_faults",
        "What the builder's words for that mean: stop or continue. Without it these are known.",
        'on_item_faults = { halt = "stop" }',
    ),
    Key("join", "Where it says when a step goes on to which several ways lead.", 'join = "given.mode"'),
    Key(
        "joins",
        "What the builder's words for that mean: each, all or once. Without it these are known.",
        'joins = { everybody = "all" }',
    ),
    Key(
        "own_condition",
        "Where the condition is under which a step runs at all, a text or an object: a decision is put before the step. Not of a kind whose `condition` is at the same place.",
        'own_condition = "only_with"',
    ),
    Key("skip_condition", "The same, of a condition under which it does not run.", 'skip_condition = "never_with"'),
    Key(
        "unmet",
        "What comes then: continue, which is what is meant without it (the flow goes on behind the step, or where the ways of its cases meet again), or stop.",
        'unmet = "stop"',
    ),
    Key("about", "Where a note names the steps that it is about.", 'about = "of"'),
)

REFERENCE: tuple[TableOfKeys, ...] = (
    TableOfKeys("Dialect", "", "The file itself.", (
        Key("dialect", "The version of the language.", "dialect = 1"),
        Key("name", "The name of the dialect, which flows carry as their format.", 'name = "harbour"'),
        Key("title", "What it is for, in lists.", 'title = "Harbour office, version 3"'),
        Key("own_operations", "How the builder's own operations begin: `check` tells of all others.", 'own_operations = ["dock."]'),
        Key("signature", "How its files are told from others.", 'signature = { all = ["$.harbour"] }'),
        Key("text", "Texts that hold definitions.", 'text = [{ at = "$.body" }]'),
        Key("split", "Texts into which several things are written.", 'split = [{ at = "$.ropes[*]", pattern = "{from} -> {to}" }]'),
        Key("divide", "Lists of records of several sorts.", 'divide = [{ at = "$.parts", by = "sort" }]'),
        Key("pairs", "Lists of names and values.", 'pairs = [{ at = "$.tasks[*].given" }]'),
        Key("merge", "Texts in several parts.", 'merge = [{ at = "$.tasks[*]", pattern = "{kin}.{verb}", into = "does" }]'),
        Key("catalogue", "Entries that are named by their id elsewhere.", 'catalogue = [{ at = "$.minds[*]", refs = ["$.tasks[*].mind"] }]'),
        Key("group", "Rows that belong together.", 'group = [{ at = "$.rows[*]", by = "plan" }]'),
        Key("gather", "Items that belong to other records.", 'gather = [{ at = "$.tasks[*]", by = "plan", to = "$.plans[*]", into = "own" }]'),
        Key("beside", "Files that belong to others.", 'beside = [{ main = "*.tasks.json", file = "*.ropes.json", into = "other" }]'),
        Key("flow", "Where the flows are, and their own fields.", 'flow = { at = "$.quays[*]" }'),
        Key("step", "Where the steps are, and the fields of all of them.", 'step = { at = "$.tasks[*]" }'),
        Key("link", "Lists of links, one or several.", 'link = [{ at = "$.ropes[*]", from = "a", to = "b" }]'),
        Key("adjacency", "Objects from step to targets, one or several.", 'adjacency = [{ at = "$.ropes" }]'),
        Key("pointer", "Pointers within steps.", 'pointer = [{ at = "then" }]'),
        Key("outlet", "What the names of ways out mean.", 'outlet = [{ match = "broken", role = "error" }]'),
        Key("order", "That steps run as they stand.", "order = {}"),
        Key("tree", "Steps within steps, the short way.", 'tree = { body = "inside" }'),
        Key("holds", "Steps within steps, one rule a place.", 'holds = [{ at = "inside", role = "body" }]'),
        Key("predecessors", "Steps that name the steps before them.", 'predecessors = { at = "after" }'),
        Key("trigger", "Triggers that stand apart from the steps.", 'trigger = { at = "$.starts[*]" }'),
        Key("kind", "What operations are.", 'kind = [{ operation = "ask.*", kind = "model" }]'),
        Key("placeholders", "How values are taken from elsewhere.", 'placeholders = { open = "((", close = "))" }'),
    )),
    TableOfKeys("Signature", "[signature]", "How files of the dialect are told from others.", (
        Key("all", "Queries of which each must select something in a document.", 'all = ["$.harbour", "$.quays[*].tasks"]'),
        Key("noise", "Paths from the document to what stands around the flows and says nothing.", 'noise = ["harbour"]'),
        Key("suffixes", "Files of other kinds that the builder writes; they are then looked into in folders, packages and revisions.", 'suffixes = [".csv"]'),
    )),
    TableOfKeys("TextRule", "[[text]]", "Texts that hold a definition. What they hold takes their place.", (
        Key("at", "The texts, from the document.", 'at = "$.body"'),
        Key("form", "What is written in them.", 'form = "yaml"'),
    )),
    TableOfKeys("SplitRule", "[[split]]", "Texts into which several things are written. Each becomes an object.", (
        Key("at", "The texts, from the document.", 'at = "$.ropes[*]"'),
        Key("pattern", "Names in braces with what stands between them; what may be missing stands in brackets, and `[[` is one that is meant. Of a list of "
            "patterns the first that fits counts.", 'pattern = "{from}[:{way}] -> {to}"'),
        Key("each", "What divides several of them in one text, which then becomes a list.", 'each = ";"'),
    )),
    TableOfKeys("DivideRule", "[[divide]]", "Lists of records of several sorts. Each becomes an object with a list for every sort; what says none stands under `@rest`.", (
        Key("at", "The lists, from the document.", 'at = "$.parts"'),
        Key("by", "Where in a record its sort is.", 'by = "sort"'),
    )),
    TableOfKeys("PairsRule", "[[pairs]]", "Lists of names and values. Each becomes an object; what is no pair, or has a name a second time, stands under `@rest`.", (
        Key("at", "The lists, from the document.", 'at = "$.tasks[*].given"'),
        Key("name", "Where in an item the name is.", 'name = "key"'),
        Key("value", "Where in an item the value is.", 'value = "says"'),
    )),
    TableOfKeys("MergeRule", "[[merge]]", "Texts that the builder keeps in several parts.", (
        Key("at", "The records, from the document.", 'at = "$.tasks[*]"'),
        Key("pattern", "How the parts become one text: their paths in braces.", 'pattern = "{kin}.{verb}"'),
        Key("into", "The key under which the text then stands.", 'into = "does"'),
    )),
    TableOfKeys("CatalogueRule", "[[catalogue]]", "Models, prompts or operations in one place. The entry takes the place of its id; what an entry names itself stays a name.", (
        Key("at", "The entries, from the document.", 'at = "$.minds[*]"'),
        Key("refs", "Where ids of them stand, from the document.", 'refs = ["$.tasks[*].given.mind"]'),
        Key("id", "Where in an entry its id is; `@key`: the key under which it stands.", 'id = "@key"'),
    )),
    TableOfKeys("GroupRule", "[[group]]", "Rows of a table of which those with one value belong to one flow.", (
        Key("at", "The rows, from the document.", 'at = "$.rows[*]"'),
        Key("by", "Where in a row the value is; without it all rows of a file are one flow.", 'by = "plan"'),
        Key("head", "What is said of the whole group in each of its rows, such as the name of the flow; it then stands in the group.", 'head = ["title", "mode"]'),
        Key("into", "The key of the document under which the groups then stand.", 'into = "plans"'),
        Key("rows", "The key of a group under which its rows stand.", 'rows = "tasks"'),
    )),
    TableOfKeys("GatherRule", "[[gather]]", "Items that name the record they belong to, as in tables of a database. An item that is such a record itself stays where it is.", (
        Key("at", "The items, from the document.", 'at = "$.tasks[*]"'),
        Key("by", "Where in an item its record is named.", 'by = "plan"'),
        Key("to", "The records, from the document.", 'to = "$.plans[*]"'),
        Key("into", "The key of a record under which its items then stand.", 'into = "own_tasks"'),
        Key("equals", "Where in a record that name is.", 'equals = "id"'),
    )),
    TableOfKeys("BesideRule", "[[beside]]", "Files that belong to others in the same folder or package.", (
        Key("file", "The name of the file beside; `*` is the same text as in `main`.", 'file = "*.ropes.json"'),
        Key("into", "The key of the document under which its content then stands.", 'into = "beside"'),
        Key("main", "The name of the file that it belongs to.", 'main = "*.tasks.json"'),
    )),
    TableOfKeys("FlowRule", "[flow]", "Where the flows are, from the document; all other keys are paths within a flow.", (
        Key("at", "The flows, from the document.", 'at = "$.quays[*]"'),
        Key("id", "Its id.", 'id = "key"'),
        Key("name", "Its name.", 'name = "title"'),
        Key("description", "What it is for.", 'description = "about"'),
        Key("state", "Whether it is on.", 'state = "mode"'),
        Key("states", "What the builder's words or numbers for that mean.", 'states = { afloat = "on", "0" = "off" }'),
        Key("owners", "Its owners; several paths, and lists, are all owners.", 'owners = ["owner", "crew.*.name"]'),
        Key("folder", "The folder it is filed in.", 'folder = "shelf"'),
        Key("environment", "The environment it runs in.", 'environment = "sea"'),
        Key("version", "Its version.", 'version = "edition"'),
        Key("created", "When it was made.", 'created = "made"'),
        Key("changed", "When it was last changed.", 'changed = "touched"'),
        Key("fault_handlers", "The flows that are started when a run fails.", 'fault_handlers = "on_trouble"'),
        Key("concurrency", "The most runs at a time.", 'concurrency = "at_once"'),
        Key("first", "The step that begins, where a trigger does not say it.", 'first = "begin_at"'),
        Key("variables", "Named values of the flow.", 'variables = { at = "$.locker[*]", name = "label", value = "says" }'),
        Key("connections", "Accounts and endpoints that steps use.", 'connections = { at = "$.berths[*]", id = "key" }'),
        Key("noise", "Paths to what says nothing about the flow.", 'noise = ["colour"]'),
    )),
    TableOfKeys("Items", "variables = { ... }, connections = { ... }", "A list of named things.", (
        Key("at", "The things, from the flow.", 'at = "$.berths[*]"'),
        Key("id", "Its id.", 'id = "key"'),
        Key("name", "Its name.", 'name = "label"'),
        Key("value", "The value of a variable.", 'value = "says"'),
        Key("service", "The service that a connection leads to.", 'service = "kind"'),
        Key("account", "The account it uses.", 'account = "user"'),
        Key("description", "What a variable means.", 'description = "about"'),
    )),
    TableOfKeys("StepRule", "[step]", "Where the steps are, from the flow; all other keys are paths within a step. The fields below may stand here too, for all steps.", (
        Key("at", "The steps, from the flow; a query goes through lists and objects.", 'at = "$.tasks[*]"'),
        Key("id", "Its id.", 'id = "key"'),
        Key("name", "Its name.", 'name = "title"'),
        Key("operation", "The builder's own type string.", 'operation = "does"'),
        Key("settings", "Where its parameters are; `.`: its own keys.", 'settings = "given"'),
        Key("scope", "The step that contains it.", 'scope = "inside_of"'),
        Key("enabled", "Where it says that it is switched on.", 'enabled = "mode"'),
        Key("disabled", "Where it says that it is switched off.", 'disabled = "asleep"'),
        Key("switches", "What the builder's words for on and off mean, at `enabled`.", "switches = { afloat = true, docked = false }"),
        Key("connection", "The connection it uses.", 'connection = "berth"'),
        Key("note", "A person's comment.", 'note = "remark"'),
        Key("position", "Where its box stands: x and y.", 'position = ["place.0", "place.1"]'),
        Key("retries", "How often it is tried again.", 'retries = "again.times"'),
        Key("retry_wait", "The time between two tries.", 'retry_wait = "again.pause"'),
        Key("retry_wait_unit", "The unit of that time when it is a bare number.", 'retry_wait_unit = "milliseconds"'),
        Key("timeout", "Its time limit.", 'timeout = "limit"'),
        Key("timeout_unit", "The unit of a time limit that is a bare number.", 'timeout_unit = "minutes"'),
        Key("on_fault", "What follows a failure.", 'on_fault = "trouble"'),
        Key("on_faults", "What the builder's words for that mean: stop, continue or route.", 'on_faults = { go_on = "continue" }'),
        Key("next", "Where the steps that follow are named.", 'next = "then"'),
        Key("next_target", "Where their name is when they are objects.", 'next_target = "to"'),
        Key("noise", "Paths to what says nothing about the step.", 'noise = ["colour"]'),
    )),
    TableOfKeys("KindRule", "[[kind]]", "What an operation is. The first rule that fits wins; the fields below are paths within the steps or triggers that it fits.", (
        Key("operation", "The operations it is for, with `*`.", 'operation = "ask.*"'),
        Key("has", "It is for those only in which this path finds something, where nothing but its fields tells what a step or trigger is: its operation.", 'has = "clock"'),
        Key("kind", "The kind of step.", 'kind = "model"'),
        Key("trigger", "The kind of trigger, when it starts the flow.", 'trigger = "schedule"'),
        Key("effect", "What it may do outside.", 'effect = "send"'),
        Key("modality", "What a model is given or makes.", 'modality = "speech"'),
        Key("inclusive", "A decision that may take several cases.", "inclusive = true"),
        Key("per_item", "It runs once for each item that arrives with a pass.", "per_item = true"),
        Key("yields", "Whether it makes many items of one, or gathers them.", 'yields = "many"'),
        Key("ends", "Whether an end ends its branch or the run.", 'ends = "run"'),
        Key("roles", "What inputs are for, by their names.", 'roles = { to = "recipient", sum = "amount" }'),
        Key("secured", "Inputs that are kept out of the builder's logs.", 'secured = ["letter"]'),
    )),
    TableOfKeys("Fields", "[[kind]], [step]", "Fields that only some kinds of step or trigger have: paths within one of them.", _FIELDS),
    TableOfKeys("PromptRule", "prompts = [{ ... }]", "One instruction text.", (
        Key("path", "Where it is.", 'path = "given.orders"'),
        Key("role", "Who is taken to say it.", 'role = "system"'),
    )),
    TableOfKeys("CasesRule", "cases = { ... }", "The cases of a decision.", (
        Key("at", "Where the list of them is.", 'at = "given.ways"'),
        Key("outlet", "Where in a case its way out is named; without it they are numbered.", 'outlet = "exit"'),
        Key("label", "Its label.", 'label = "title"'),
        Key("condition", "Its condition.", 'condition = "test"'),
    )),
    TableOfKeys("LinkRule", "[[link]]", "A list of links: objects, or lists whose places are `0`, `1` and so on.", (
        Key("at", "The links, from the flow.", 'at = "$.ropes[*]"'),
        Key("from", "Where in a link its source is.", 'from = "a"'),
        Key("to", "Where in a link its target is.", 'to = "ends.1"'),
        Key("outlet", "The way out of the source.", 'outlet = "knot"'),
        Key("label", "Its label.", 'label = "title"'),
        Key("condition", "Its condition.", 'condition = "test"'),
        Key("by", "Whether the ends are ids or names.", 'by = "name"'),
        Key("role", "What all of these links are, whatever their outlet.", 'role = "error"'),
        Key("reversed", "They lead from target to source.", "reversed = true"),
        Key("noise", "Paths to what says nothing.", 'noise = ["to.port"]'),
    )),
    TableOfKeys("AdjacencyRule", "[[adjacency]]", "An object from step (id or name) to targets, or to outlets and their targets.", (
        Key("at", "The object, from the flow.", 'at = "$.ropes"'),
        Key("target", "Where in a target that is an object its name is.", 'target = "to"'),
        Key("role", "What all of these links are.", 'role = "attach"'),
        Key("reversed", "They lead from target to source.", "reversed = true"),
    )),
    TableOfKeys("PointerRule", "[[pointer]]", "A pointer within a step to others: a name, a list, an object from outlet to these, or objects.", (
        Key("at", "Where in a step it is.", 'at = "then"'),
        Key("target", "Where in an object the name of the step is.", 'target = "to"'),
        Key("via", "Where in an object the outlet is; without it the key above.", 'via = "way"'),
        Key("outlet", "The outlet of pointers that name none.", 'outlet = "broken"'),
        Key("label", "Where in an object the label is.", 'label = "title"'),
        Key("condition", "Where in an object the condition is.", 'condition = "test"'),
        Key("role", "What all of these links are.", 'role = "error"'),
        Key("reversed", "The named step comes before this one.", "reversed = true"),
    )),
    TableOfKeys("OutletRule", "[[outlet]]", "What a way out means. Outlets without a rule are cases of a decision.", (
        Key("match", "The outlets it is for, with `*`.", 'match = "broken*"'),
        Key("role", "What a link from there is: next, case, error, attach, or body: what lies behind it, and not behind other ways of the loop, is in the loop.", 'role = "body"'),
        Key("label", 'Its label; `""` hides the outlet\'s own word.', 'label = ""'),
        Key("after", "The outcomes after which it is taken.", 'after = ["failure", "timeout"]'),
        Key("reversed", "The arrow is turned round: an agent that points to its tools.", "reversed = true"),
    )),
    TableOfKeys("OrderRule", "[order]", "Steps that run in the order in which they stand, where nothing else links them.", (
        Key("groups", "Groups, from the flow: all steps of one before all of the next.", 'groups = "$.stages[*]"'),
    )),
    TableOfKeys("TreeRule", "[tree]", "Steps within steps, in the usual places.", (
        Key("body", "The steps that a step contains.", 'body = "inside"'),
        Key("branches", "The branches of a decision or parallel block.", 'branches = "ways"'),
        Key("branch_steps", "The steps of a branch.", 'branch_steps = "tasks"'),
        Key("branch_label", "The label of a branch.", 'branch_label = "title"'),
        Key("branch_condition", "The condition of a branch.", 'branch_condition = "test"'),
        Key("otherwise", "Where a branch says that it is taken when no other is.", 'otherwise = "else"'),
        Key("handler", "The steps that run after a failure.", 'handler = "rescue"'),
        Key("handler_resumes", "Whether the run goes on behind them.", "handler_resumes = false"),
        Key("attached", "The helpers of an agent.", 'attached = "tools"'),
    )),
    TableOfKeys("HoldRule", "[[holds]]", "Steps within steps, one rule for each place.", (
        Key("at", "Where in a step they are, or their branches.", 'at = "ways"'),
        Key("role", "What they are to the step: body, case, error or attach.", 'role = "case"'),
        Key("operation", "The steps it is for, with `*`.", 'operation = "fork*"'),
        Key("steps", "The steps of a branch; `.`: the branch is the list itself.", 'steps = "tasks"'),
        Key("label", "The label of a branch; `@key`: the key under which it stands.", 'label = "title"'),
        Key("condition", "The condition of a branch.", 'condition = "test"'),
        Key("otherwise", "Where a branch says that it is taken when no other is.", 'otherwise = "else"'),
        Key("named", "The label of a branch that has none of its own.", 'named = "else"'),
        Key("resumes", "Whether the run goes on behind steps after a failure.", "resumes = false"),
    )),
    TableOfKeys("PredecessorRule", "[predecessors]", "Steps that name the steps before them.", (
        Key("at", "Where in a step they are: a name, a list, an object from name to outcomes, or objects.", 'at = "after"'),
        Key("source", "Where in an object the name is.", 'source = "task"'),
        Key("outcome", "Where in an object the outcome is.", 'outcome = "when"'),
        Key("outcomes", "What the builder's words for outcomes mean.", 'outcomes = { done = "success", broke = "failure" }'),
    )),
    TableOfKeys("TriggerRule", "[trigger]", "Triggers that stand apart from the steps.", (
        Key("at", "The triggers, from the flow.", 'at = "$.starts[*]"'),
        Key("id", "Its id.", 'id = "key"'),
        Key("name", "Its name.", 'name = "title"'),
        Key("operation", "The builder's own type string.", 'operation = "does"'),
        Key("settings", "Where its parameters are; `.`: its own keys.", 'settings = "given"'),
        Key("starts", "The step that it starts; without it the steps that nothing leads to.", 'starts = "first"'),
        Key("connection", "The connection it uses.", 'connection = "berth"'),
        Key("condition", "Its condition.", 'condition = "test"'),
    )),
    TableOfKeys("PlaceholderRule", "[placeholders]", "Texts that are taken from elsewhere. Functions and sums around them are seen through.", (
        Key("open", "The letters that begin one.", 'open = "(("'),
        Key("close", "The letters that end one.", 'close = "))"'),
        Key("prefix", "A word before the name of a step.", 'prefix = "tasks."'),
        Key("separator", "What divides the name of a step from what is taken of it.", 'separator = "/"'),
        Key("variable", "The word before the name of a variable.", 'variable = "locker."'),
        Key("trigger", "The word that means the trigger.", 'trigger = "start"'),
        Key("model", "The word behind which the model decides: name, type and description follow.", 'model = "choose "'),
        Key("divider", "What divides these three.", 'divider = "|"'),
    )),
)  # fmt: skip

FIELDS_OF = ("StepRule", "KindRule")  # types that have the keys of ``Fields`` beside their own


def keys_of(kind: str) -> dict[str, Key]:
    """The keys of a type by name."""
    wanted = (kind, "Fields") if kind in FIELDS_OF else (kind,)
    return {key.name: key for table in REFERENCE if table.kind in wanted for key in table.keys}
