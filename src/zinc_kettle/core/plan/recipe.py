"""What an engine offers, as its recipe declares it: its settings, and how each reaches the engine.

An `Engine` is what a study must know and keeps. A `Recipe` says besides how the engine is started, asked and read.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal

from annotated_types import Ge, Gt, Le, Len

from zinc_kettle.core.address import address_problem, variable_problem
from zinc_kettle.core.declared import About, Checked, json_problem
from zinc_kettle.core.plan.factors import FACTORS, Factor, Level

BUILT_IN = "built-in"
"""The engine a study means where it names none."""
OPEN_PROTOCOL = "open-protocol"
"""What an address is taken to speak where nothing else is said."""
_DOTTED = re.compile(r"\w+(\.\w+)*\Z")


def _path_problem(path: str) -> str:
    return "" if path.startswith("/") and not re.search(r"\s", path) else "a path of its server begins with / : /health"


def _dotted_problem(place: str) -> str:
    return "" if _DOTTED.match(place) else "names of nested objects, with dots between them: usage.prompt_tokens"


def _option_problem(option: str) -> str:
    return "" if option.startswith("-") else "an option begins with a hyphen: --threads"


def _launcher_problem(name: str) -> str:
    return (
        "" if re.match(r"[a-z0-9_]{0,40}\Z", name) else "the name of one of our launchers: small letters, digits and _"
    )


ServerPath = Annotated[str, Len(1, 200), Checked(_path_problem)]
Dotted = Annotated[str, Len(1, 200), Checked(_dotted_problem)]
Option = Annotated[str, Len(1, 100), Checked(_option_problem)]
Argument = Annotated[str, Len(0, 2_000)]
Variable = Annotated[str, Checked(variable_problem)]
FileName = Annotated[str, Len(1, 1_000)]
Json = Annotated[Mapping[str, Any], Checked(json_problem)]
"""Fields of a request, as JSON has them."""
SettingRole = Literal[
    "threads",
    "prefill-threads",
    "context",
    "slots",
    "batch",
    "micro-batch",
    "cache-precision",
    "prompt-cache",
    "load-mode",
    "device-layers",
    "experts-in-main",
    "expert-layers-in-main",
    "flash-attention",
    "one-cache",
    "repacking",
    "draft-model",
]
"""What a setting means to the tool, whatever an engine calls it."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Setting(Factor):
    """A setting of an engine, and how it reaches the engine: in one or several ways."""

    role: Annotated[SettingRole | None, About("role", "What it means to the tool, whatever its name.", "threads")] = (
        None
    )
    argument: Annotated[
        Option | Literal[""], About("argument", "Given to the engine's program with the level behind it.", "--threads")
    ] = ""
    flag: Annotated[
        Option | Literal[""], About("flag", "Given to the engine's program alone, if it is on.", "--compact")
    ] = ""
    flag_off: Annotated[Option | Literal[""], About("flag, off", "The same, if it is off.", "--no-compact")] = ""
    environment: Annotated[
        Variable | Literal[""], About("variable", "A variable of the engine's environment.", "MY_SERVER_THREADS")
    ] = ""
    request: Annotated[str, About("field", "A field of every request.", "creativity")] = ""
    words: Annotated[
        Mapping[str, str],
        About("words", "What the engine calls a level, by the level as a study file has it.", 'true = "on"'),
    ] = field(default_factory=dict)

    @property
    def on_launch(self) -> bool:
        """True where the engine's program is told of it, so that no engine that already runs can be given it."""
        return bool(self.argument or self.flag or self.flag_off or self.environment)

    def word(self, level: Level) -> str:
        """A level as the engine is told."""
        plain = str(level).lower() if isinstance(level, bool) else str(level)
        return self.words.get(plain, plain)


@dataclass(frozen=True, slots=True)
class Engine:
    """What a study must know of an engine."""

    name: str
    settings: tuple[Setting, ...] = ()
    fits: bool = False
    """True where what Fit says of memory holds for it."""
    started: bool = True
    """False where it always runs already: then no model's file is needed."""

    def setting(self, role: SettingRole) -> Setting | None:
        """The setting with a role."""
        return next((s for s in self.settings if s.role == role), None)

    def named(self, name: str) -> Setting | None:
        """The setting of a name."""
        return next((s for s in self.settings if s.name == name), None)


@dataclass(frozen=True, slots=True)
class Endpoint:
    """An engine that already runs. Keys only by the name of a variable or of a file."""

    url: Annotated[
        str,
        Checked(address_problem),
        About("address", "Address of an engine that already runs; it is not started.", "http://127.0.0.1:8080"),
    ]
    model: Annotated[str, About("model name", "The model's name as it is sent.", "default")] = "default"
    key_variable: Annotated[
        str | None,
        Checked(variable_problem),
        About("key variable", "Name of the environment variable with the key.", "OFFICE_KEY"),
    ] = None
    key_file: Annotated[
        FileName | None, About("key file", "A file with the key, readable by you alone.", "office.key")
    ] = None
    ca_file: Annotated[
        FileName | None, About("certificates", "Certificates to trust beside the system's.", "office-ca.pem")
    ] = None


@dataclass(frozen=True, slots=True)
class Start:
    """How an engine's program is started, known to be ready, and ended."""

    argv: Annotated[
        tuple[Argument, ...],
        Len(1, 200),
        About(
            "program",
            "The program and its arguments, without a shell. `{model}` and `{port}` are required; `{python}` and "
            "`{launcher}` may be named.",
            '["my-server", "{model}", "{port}"]',
        ),
    ]
    launcher: Annotated[
        str, Checked(_launcher_problem), About("launcher", "One of our launchers, for `{launcher}`.", "xllamacpp")
    ] = ""
    python: Annotated[
        Argument,
        About("Python", "The Python the engine's package is installed in; by default the tool's.", "bin/python"),
    ] = ""
    environment: Annotated[
        Mapping[Variable, Argument], About("environment", "Variables it is given.", 'MY_SERVER_LOG = "warn"')
    ] = field(default_factory=dict)
    inherit: Annotated[
        tuple[Variable, ...],
        About("inherit", "Further variables of the tool's own environment that it is given.", '["MY_SERVER_HOME"]'),
    ] = ()
    ready: Annotated[
        ServerPath, About("ready", "A path that answers 200 once requests can be answered.", "/health")
    ] = "/health"
    stop: Annotated[Literal["TERM", "INT"], About("signal", "The signal that ends it.", "INT")] = "TERM"
    grace_s: Annotated[
        float, Ge(0), Le(60), About("grace", "Seconds it has to end by itself; then it is killed.", "5")
    ] = 2.0
    failed: Annotated[
        tuple[str, ...], About("failed", "What the line that tells why it did not start contains.", '["panic"]')
    ] = ("error", "failed")


@dataclass(frozen=True, slots=True)
class Requests:
    """Fields outside the open protocol that requests carry."""

    always: Annotated[Json, About("always", "Fields of every request.", "stream_all = true")] = field(
        default_factory=dict
    )
    exact_length: Annotated[
        Json, About("exact length", "Fields that make an answer go on to the length asked for.", "ignore_eos = true")
    ] = field(default_factory=dict)
    counts: Annotated[
        Json, About("counts", "Fields that make chunks carry its own counts and clock.", "timings_per_token = true")
    ] = field(default_factory=dict)
    no_cache: Annotated[
        Json, About("no cache", "Fields that keep its prompt cache out, if no setting does.", "cache_prompt = false")
    ] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class ReportedAt:
    """Where a number is in a chunk: names of nested objects, and what it is multiplied with."""

    at: Annotated[Dotted, About("place", "Where it is in a chunk.", "timings.prompt_ms")]
    times: Annotated[float, Gt(0), About("times", "What it is multiplied with.", "1000")] = 1.0


REPORTED = (
    "cached_tokens",
    "prompt_tokens",
    "prompt_ms",
    "output_tokens",
    "output_ms",
    "draft_tokens",
    "draft_accepted",
)
"""What an engine may tell of a request on its own clock."""


@dataclass(frozen=True, slots=True)
class Count:
    """How it counts the tokens of a prompt: its template is applied, then the text is cut into tokens."""

    tokenize: Annotated[
        ServerPath, About("tokens path", "A path that takes a text and gives its tokens, or their number.", "/tokenize")
    ]
    tokens: Annotated[Dotted, About("tokens", "Where they are in its answer.", "tokens")] = "tokens"
    text: Annotated[
        str,
        About("text", "The field that takes the text; `messages` if it applies the template itself.", "content"),
    ] = "content"
    template: Annotated[
        ServerPath | Literal[""],
        About("template path", "A path that takes messages and applies the template.", "/apply-template"),
    ] = ""
    prompt: Annotated[Dotted, About("prompt", "Where the text is in that path's answer.", "prompt")] = "prompt"
    extra: Annotated[Json, About("extra", "Further fields of what is sent.", "add_special = true")] = field(
        default_factory=dict
    )


@dataclass(frozen=True, slots=True)
class Ask:
    """A fact an engine tells: a path, and where the fact is in its answer."""

    path: Annotated[ServerPath, About("path", "The path that is asked.", "/props")]
    at: Annotated[Dotted, About("place", "Where the fact is in its answer.", "total_slots")]


@dataclass(frozen=True, slots=True)
class Recipe:
    """All that is peculiar to an engine."""

    engine: Engine
    title: str = ""
    meaning: str = ""
    start: Start | None = None
    """None where it always runs already."""
    endpoint: Endpoint | None = None
    """Where it runs, if the recipe says so."""
    requests: Requests = field(default_factory=Requests)
    reports: Mapping[str, ReportedAt] = field(default_factory=dict)
    """Where its own account is in a chunk, by the names in REPORTED."""
    count: Count | None = None
    facts: Mapping[str, Ask] = field(default_factory=dict)
    """`version`, `slots` and the like."""
    metrics: str = ""
    """A path that gives metrics in the Prometheus text format, where its process cannot be seen."""
    connect_ahead: bool = True
    """False where a connection holds a worker of its server, so that the next one must wait for the last."""

    @property
    def name(self) -> str:
        """The level of the factor `engine`."""
        return self.engine.name


def factors_of(engines: Iterable[Engine]) -> dict[str, Factor]:
    """All factors of a study with these engines: the general ones, then the settings, each as first declared."""
    out = dict(FACTORS)
    for engine in engines:
        for setting in engine.settings:
            out.setdefault(setting.name, setting)
    return out


def arguments(engine: Engine, levels: Mapping[str, Level]) -> list[str]:
    """What the engine's program is given for these levels, in the order in which its recipe declares them."""
    out: list[str] = []
    for setting in engine.settings:
        level = levels.get(setting.name)
        if level is None:
            continue
        if setting.argument:
            out += [setting.argument, setting.word(level)]
        flag = setting.flag if level is True else setting.flag_off if level is False else ""
        out += [flag] if flag else []
    return out


def environment(engine: Engine, levels: Mapping[str, Level]) -> dict[str, str]:
    """Variables of the environment for these levels."""
    return {
        s.environment: s.word(levels[s.name])
        for s in engine.settings
        if s.environment and levels.get(s.name) is not None
    }


def request_fields(recipe: Recipe, levels: Mapping[str, Level | None], *, exact: bool = True) -> dict[str, Any]:
    """Fields of every request for these levels; a setting's own field wins over what the recipe always adds.

    Args:
        recipe: Of the engine.
        levels: Of the cell.
        exact: Answers go on to the length asked for.
    """
    asked = recipe.requests
    fields = {**asked.always, **(asked.exact_length if exact else {}), **asked.counts, **asked.no_cache}
    for setting in recipe.engine.settings:
        level = levels.get(setting.name)
        if setting.request and level is not None:
            plain = str(level).lower() if isinstance(level, bool) else str(level)
            fields[setting.request] = setting.words.get(plain, level)
    return fields


def further_models(engine: Engine, levels: Mapping[str, Level]) -> dict[str, tuple[str, str | None]]:
    """Models that settings name besides the one that is measured: name and quantization, by the setting.

    `NAME.QUANTIZATION` names a model as the factors model and quantization do together; a path stays one.
    """
    out: dict[str, tuple[str, str | None]] = {}
    for setting in engine.settings:
        level = levels.get(setting.name)
        if setting.type == "model" and isinstance(level, str):
            name, dot, quantization = level.rpartition(".")
            whole = level.endswith(".gguf") or not dot
            out[setting.name] = (level, None) if whole else (name, quantization)
    return out
