"""What the figures of a chart are, in one line, and what must be said with it."""

from __future__ import annotations

from zinc_kettle.core.cautions import QUIET_CODES
from zinc_kettle.core.cautions.answers import DIFFERENT_TOKENIZER
from zinc_kettle.core.checks.steering import told_of_run
from zinc_kettle.core.compare.cells import other_tokenizers
from zinc_kettle.core.facts import RunFacts
from zinc_kettle.core.grid import SIMULATED_MARK
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.measures.kinds import OverRequests
from zinc_kettle.core.plan.factors import label
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import StudyResults
from zinc_kettle.core.units import byte_size, plural, scale
from zinc_kettle.present.ratio_words import listed
from zinc_kettle.present.values import CAUTION_MARK, bound_name, scope

ARRIVALS = {"constant": "constant", "poisson": "Poisson", "recorded": "recorded"}


def measure_line(results: StudyResults, name: str) -> str:
    """Measure, unit, statistic, bounds and workload of a study's figures, in one line; kept while no cell changes."""
    return results.once(("measure line", name), lambda: " · ".join([*_statistic(results, name), *_workload(results)]))


def _statistic(results: StudyResults, name: str) -> list[str]:
    measure = MEASURES[name]
    values = [v for c in results.cells if c.done and isinstance(v := c.value(name), Value)]
    if not values:
        return [f"{measure.title}, {measure.unit}"]
    counts, nouns = sorted({v.n for v in values}), {v.of for v in values}
    what = "all requests" if isinstance(measure.source, OverRequests) else "median"
    told = f"{what}, {bound_name(values[0])}"
    if len(nouns) > 1:
        told = what  # a cell with one repeat counts its requests, the others their repeats
    elif len(counts) > 1:
        told = f"{what} of {counts[0]:,} to {counts[-1]:,} {nouns.pop()}{scope(values[0])}"
    return [f"{measure.title}, {scale(max(v.value for v in values), values[0].unit)[1]}", told]


def _workload(results: StudyResults) -> list[str]:
    study = results.study
    held = {k: v for k, v in study.cells[0].settings.items() if k not in study.vary}
    parts = []
    for factor, noun, drawn in (
        ("prompt_tokens", "prompt", study.prompts.lengths),
        ("output_tokens", "output", study.prompts.outputs),
    ):
        value = held.get(factor)
        own = {r.output_tokens for r in study.prompts.recorded if r.output_tokens is not None}
        if factor == "output_tokens" and drawn is None and own:
            parts.append(
                f"output {min(own):,} to {max(own):,} tokens" if len(own) > 1 else f"output {min(own):,} tokens"
            )
        elif drawn is not None:
            parts.append(f"{noun} {drawn.kind}, up to {drawn.most:,} tokens")
        elif value is not None:
            natural = factor == "output_tokens" and study.prompts.answers == "natural"
            parts.append(f"{noun} {'up to ' if natural else ''}{label(value)} tokens")
    shape, streams = study.load.shape, held.get("concurrency")
    if shape != "closed":
        names = {"open": f"open loop, {ARRIVALS[study.load.arrivals]} arrivals", "conversation": "conversations"}
        parts.append(names.get(shape, shape))
    elif streams is not None:
        parts.append(plural(int(streams), "stream"))
    return parts


def machine_text(facts: RunFacts) -> str:
    """Where a run was measured: on rigs that have names, or on the machine at hand, which a simulated one is not."""
    rigs = facts.get("rigs", {})
    if rigs:
        named = [f"{name} {SIMULATED_MARK}" if f.get("simulated") else name for name, f in rigs.items()]
        return f"on {listed(named)}"
    cores, memory = facts.get("physical_cores"), facts.get("memory_bytes")
    parts = [str(facts.get("processor", "machine not recorded"))]
    parts += [plural(int(cores), "core")] if cores else []
    parts += [f"{byte_size(memory)} of memory"] if memory else []
    parts += ["virtual machine"] if facts.get("virtual") else []
    return ", ".join(parts)


def notes(results: StudyResults) -> tuple[str, ...]:
    """Whether it is simulated, on which machine, with which cautions."""
    out = ["SIMULATED"] if results.run.simulated else []
    out.append(machine_text(results.run.facts))
    found = {c.code for cell in results.cells if cell.done for c in cell.cautions if c.code not in QUIET_CODES}
    if other_tokenizers(results) is not None:
        found.add(DIFFERENT_TOKENIZER.code)
    codes = sorted(found)
    if codes:
        out.append(f"{CAUTION_MARK} " + ", ".join(codes))
    decided = told_of_run(results.run.decisions)
    if decided:
        out.append("decided while it ran: " + ", ".join(decided))
    return tuple(out)
