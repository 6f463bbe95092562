"""What an engine offers, as its recipe declares it: its settings, and how each reaches the engine.

An `Engine` is what a study must know and keeps. A `Recipe` says besides how the engine is started, asked and read.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal

from annotated_types import Len

from zinc_kettle.core.address import address_problem, variable_problem
from zinc_kettle.core.declared import About, Checked
from zinc_kettle.core.plan.factors import FACTORS, Factor, Level

BUILT_IN = "built-in"
"""The engine a study means where it names none."""
OPEN_PROTOCOL = "open-protocol"
"""What an address is taken to speak where nothing else is said."""
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
    "flash-attention",
    "one-cache",
    "repacking",
    "draft-model",
]
"""What a setting means to the tool, whatever an engine calls it."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Setting(Factor):
    """A setting of an engine, and how it reaches the engine: in one or several ways."""

    role: SettingRole | None = None
    """None where only the engine knows what it means."""
    argument: str = ""
    """Given to the engine's program with the level behind it."""
    flag: str = ""
    """Given to the engine's program alone, where the level is on."""
    flag_off: str = ""
    """The same where it is off."""
    environment: str = ""
    """A variable of the engine's environment."""
    request: str = ""
    """A field of every request."""
    words: Mapping[str, str] = field(default_factory=dict)
    """What the engine calls a level, by the level as a study file writes it."""

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


FileName = Annotated[str, Len(1, 1_000)]


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

    argv: tuple[str, ...]
    """With `{model}`, `{port}`, `{python}` and `{launcher}` where these belong; settings come behind. No shell."""
    launcher: str = ""
    """One of our launchers, which tell in JSON lines where they listen; empty for any other program."""
    python: str = ""
    """The Python the engine's package is installed in; the tool's own where empty."""
    environment: Mapping[str, str] = field(default_factory=dict)
    inherit: tuple[str, ...] = ()
    """Further variables of the tool's environment that it needs; keys and the like do not go along by themselves."""
    ready: str = "/health"
    """A path that answers 200 once requests can be answered."""
    stop: Literal["TERM", "INT"] = "TERM"
    grace_s: float = 2.0
    """Time it has to end by itself; then it is killed."""
    failed: tuple[str, ...] = ("error", "failed")
    """What a line of its last words contains that tells why it did not start."""


@dataclass(frozen=True, slots=True)
class Requests:
    """Fields outside the open protocol that requests carry."""

    always: Mapping[str, Any] = field(default_factory=dict)
    exact_length: Mapping[str, Any] = field(default_factory=dict)
    """Makes an answer go on to the length asked for."""
    counts: Mapping[str, Any] = field(default_factory=dict)
    """Makes chunks carry the engine's own counts and clock."""
    no_cache: Mapping[str, Any] = field(default_factory=dict)
    """Keeps its prompt cache out where a setting does not."""


@dataclass(frozen=True, slots=True)
class ReportedAt:
    """Where a number is in a chunk: names of nested objects, and what it is multiplied with."""

    at: str
    times: float = 1.0


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

    tokenize: str
    """A path that takes a text and gives its tokens, or how many they are."""
    tokens: str = "tokens"
    """Where they are in the answer."""
    text: str = "content"
    """The field that takes the text; `messages` where it takes messages and applies the template itself."""
    template: str = ""
    """A path that takes `messages` and applies the template."""
    prompt: str = "prompt"
    """Where its text is in the answer."""
    extra: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Ask:
    """A fact an engine tells: a path, and where the fact is in its answer."""

    path: str
    at: str


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


def request_fields(recipe: Recipe, levels: Mapping[str, Level | None]) -> dict[str, Any]:
    """Fields of every request for these levels; a setting's own field wins over what the recipe always adds."""
    asked = recipe.requests
    fields = {**asked.always, **asked.exact_length, **asked.counts, **asked.no_cache}
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
