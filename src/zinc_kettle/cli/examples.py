"""Examples of every command, shown below its help; a test reads each of them as the command line does."""

from __future__ import annotations

from collections.abc import Mapping

EXAMPLES: Mapping[str, tuple[str, ...]] = {
    "run": ("zinc-kettle run night.study.toml", "zinc-kettle run --template threads --hold model=brine-60m --json"),
    "plan": ("zinc-kettle plan night.study.toml", "zinc-kettle plan night.study.toml --dry"),
    "new": ("zinc-kettle new", "zinc-kettle new --template threads --hold model=brine-60m --vary threads=1..8x2"),
    "synth": ("zinc-kettle synth brine-60m --quantization Q8_0",),
    "show": ("zinc-kettle show which-rig", "zinc-kettle show which-rig:2 --json", "zinc-kettle show pilots::which-rig"),
    "steer": ("zinc-kettle steer which-rig pause", "zinc-kettle steer which-rig more rig=gannet --count 4"),
    "watch": ("zinc-kettle watch", "zinc-kettle watch which-rig"),
    "answers": ("zinc-kettle answers night-log-desk", "zinc-kettle answers night-log-desk --cell threads=2 --json"),
    "note": ("zinc-kettle note which-rig 'the window was open' --cell rig=petrel",),
    "acknowledge": ("zinc-kettle acknowledge which-rig noisy --note 'a shared machine; cells are interleaved'",),
    "duel": ("zinc-kettle duel which-rig@rig=gannet which-rig@rig=cormorant", "zinc-kettle duel nightly:1 nightly:2"),
    "ladder": (
        "zinc-kettle ladder last-weeks-settings",
        "zinc-kettle ladder which-rig@rig=petrel which-rig@rig=gannet which-rig@rig=cormorant",
    ),
    "capacity": ("zinc-kettle capacity how-many-desks --json",),
    "chart": ("zinc-kettle chart which-rig --list", "zinc-kettle chart three-ways --kind scaling --out scaling.pdf"),
    "lineup": ("zinc-kettle lineup which-rig --by rig --per cost", "zinc-kettle lineup which-rig --index petrel"),
    "report": (
        "zinc-kettle report which-rig --out report.pdf --out report.html",
        "zinc-kettle report which-rig --duel 'which-rig@rig=gannet which-rig@rig=cormorant' --out report.html",
        "zinc-kettle report --name which-rig --words 'answer=We take the second.' --out report.html",
    ),
    "table": ("zinc-kettle table which-rig --of requests --out requests.parquet", "zinc-kettle table which-rig --long"),
    "pack": ("zinc-kettle pack which-rig --without answers --out which-rig.kettle",),
    "unpack": ("zinc-kettle unpack which-rig.kettle --as pilots",),
    "gate": (
        "zinc-kettle gate nightly.study.toml --against baseline.kettle::nightly --junit speed.xml",
        "zinc-kettle gate builds@engine=new --against @engine=old --worse-than 2% --measure decode",
    ),
    "remove": ("zinc-kettle remove which-rig:2",),
    "restore": ("zinc-kettle restore", "zinc-kettle restore which-rig:2"),
    "settings": ("zinc-kettle settings", "zinc-kettle settings pace.words_per_minute=200 money.currency=EUR"),
    "doctor": (
        "zinc-kettle doctor --driver",
        "zinc-kettle doctor --bundle report.zip",
        "zinc-kettle doctor --adopt old.db",
    ),
    "fit": ("zinc-kettle fit --pace 10", "zinc-kettle fit model.gguf --rig gannet --context 8192 --slots 4"),
    "engines": ("zinc-kettle engines", "zinc-kettle engines built-in"),
    "probe": ("zinc-kettle probe", "zinc-kettle probe gannet --json"),
    "rehearse": ("zinc-kettle rehearse --list", "zinc-kettle rehearse gannet --model kelp-4b"),
    "demo": ("zinc-kettle demo", "zinc-kettle demo --walk"),
}
"""By command."""


def epilog(name: str) -> str:
    """The examples of a command, as they stand below its help."""
    return "\n\n".join(("Examples:", *EXAMPLES[name]))
