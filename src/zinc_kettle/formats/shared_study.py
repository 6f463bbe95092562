"""Studies that leave this machine or have come from another one: no address, no key, no folder; prompts as files."""

from __future__ import annotations

import csv
import hashlib
import io
from collections.abc import Mapping
from dataclasses import replace

import msgspec

from zinc_kettle.core.anonymise import Anonymiser
from zinc_kettle.core.plan.recipe import Endpoint
from zinc_kettle.core.plan.study import ONE_PROMPT, Prompts, Study, to_plain
from zinc_kettle.formats.study_writer import write_study

NO_ADDRESS = "http://address-left-out.invalid"
"""In place of an address; a person who repeats the study types their own. The ending is kept free for such uses
(RFC 2606)."""
DIGEST_DIGITS = 12


def shared_study(study: Study, private: Anonymiser) -> Study:
    """A plan in which nothing says where anything is: neither engines nor keys nor folders.

    Args:
        study: The plan.
        private: Takes names out of its texts; the prompts themselves stay as they are.
    """
    prompts, times_file = study.prompts, study.load.times_file
    plain = to_plain(replace(study, prompts=replace(prompts, texts=(), recorded=(), tasks={})))
    hidden = msgspec.convert(private.value(plain), Study)
    design = replace(
        study.design,
        baseline=private.levels(study.design.baseline),
        without=tuple({n: tuple(map(private.level, v)) for n, v in rule.items()} for rule in study.design.without),
    )
    return replace(
        hidden,
        vary={name: tuple(map(private.level, levels)) for name, levels in study.vary.items()},
        hold=private.levels(study.hold),
        design=design,
        decide=replace(study.decide, baseline=private.levels(study.decide.baseline)),
        endpoint=None if study.endpoint is None else Endpoint(NO_ADDRESS, private.text(study.endpoint.model)),
        prompts=_shared_prompts(prompts, private),
        load=replace(study.load, times_file=None if times_file is None else last_name(times_file)),
    )


def _shared_prompts(prompts: Prompts, private: Anonymiser) -> Prompts:
    """The prompts under names that say no more than the levels do; their texts stay as they are."""
    names = {name: str(private.level(name)) for name in prompts.names}
    of = {f"{ONE_PROMPT}{name}": f"{ONE_PROMPT}{hidden}" for name, hidden in names.items()}
    return replace(
        prompts,
        files=tuple(map(last_name, prompts.files)),
        names=tuple(names.values()),
        withheld={of.get(key, key): said for key, said in prompts.withheld.items()},
    )


def last_name(path: str) -> str:
    """The last name of a path, whichever system wrote it."""
    return path.replace("\\", "/").rpartition("/")[2] or "file"


def prompt_files(study: Study) -> dict[str, bytes]:
    """What a study needs beside its file, by the names a bundle gives it; no texts where they were left out."""
    prompts = study.prompts
    out = {f"text-{i}.txt": text.encode() for i, text in enumerate(prompts.texts, start=1)}
    if prompts.recorded and "recorded" not in prompts.withheld:
        entries = [
            {
                "messages": [{"role": role, "content": text} for role, text in r.messages],
                **({} if r.output_tokens is None else {"output_tokens": r.output_tokens}),
            }
            for r in prompts.recorded
        ]
        out["recorded.jsonl"] = b"".join(msgspec.json.encode(entry) + b"\n" for entry in entries)
    if study.load.times_s:
        file = io.StringIO()
        rows = csv.writer(file, lineterminator="\n")
        rows.writerow(["at_s"])
        rows.writerows([[repr(at)] for at in study.load.times_s])
        out["times.csv"] = file.getvalue().encode()
    return out


def shared_text(study: Study, files: Mapping[str, bytes], *, comment: str = "") -> str:
    """The study file of a plan that was made ready to be shared.

    Args:
        study: The plan; see `shared_study`.
        files: What `prompt_files` made of it, under the names they have now.
        comment: Said at the top; may be empty.
    """
    times = next((name for name in files if name.endswith(".csv")), "")
    named = [name for name in files if name != times]
    return write_study(study, files=named, times_file=times, comment=comment)


def copied_study(study: Study, *, comment: str) -> tuple[str, dict[str, bytes]]:
    """The plan of somebody else as a study file of one's own, with the files it needs beside it.

    The files are named after what they hold, so that those of two studies never take each other's place.

    Args:
        study: The plan.
        comment: Says whose it was.
    """
    shared = shared_study(study, Anonymiser())
    files = {}
    for name, data in prompt_files(shared).items():
        stem, _, ending = name.rpartition(".")
        files[f"{stem}-{hashlib.sha256(data).hexdigest()[:DIGEST_DIGITS]}.{ending}"] = data
    return shared_text(shared, files, comment=comment), files
