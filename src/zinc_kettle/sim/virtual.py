"""A load on a made-up engine in a time of its own: minutes of requests in a moment, by the same steps as the server.

What comes out are timelines as a driver would have kept them, without what a network and a driver add.
"""

from __future__ import annotations

import heapq
from collections.abc import Sequence
from typing import Any

import numpy as np

from zinc_kettle.core.record.repeat import Repeat
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.units import NS_PER_S
from zinc_kettle.sim.engine import Job, SimEngine
from zinc_kettle.sim.fleet import SIM_RIGS, SimRig


class VirtualEngine:
    """A made-up engine that holds a model, and a clock that stands still between its steps.

    Args:
        rig: A simulated rig, or its name.
        settings: As a study's launch has them: model, quantization, threads, slots, context.
        seed: Of its noise.

    Raises:
        LoadFailedError: No such model, or not enough memory.
    """

    def __init__(self, rig: str | SimRig, settings: dict[str, Any], *, seed: int) -> None:
        self._now = 0.0
        self._engine = SimEngine(SIM_RIGS[rig] if isinstance(rig, str) else rig, seed=seed, clock=lambda: self._now)
        self._engine.hold(settings)
        self._count = 0

    def closed(self, streams: int, requests: int, *, prompt: int, output: int, block: int = 0) -> Repeat:
        """So many streams, each sending its next request when the last has ended.

        Args:
            streams: Requests in flight at once.
            requests: Of all streams together.
            prompt: Tokens of each prompt.
            output: Tokens of each answer.
            block: Of the repeat.
        """
        due = [(self._now, None)] * min(streams, requests)
        return self._run(due, requests - len(due), prompt, output, streams, block, scheduled=False)

    def arriving(self, times_s: Sequence[float], *, prompt: int, output: int, block: int = 0) -> Repeat:
        """Requests that come at these times, whatever the state of the engine.

        Args:
            times_s: When, counted from now.
            prompt: Tokens of each prompt.
            output: Tokens of each answer.
            block: Of the repeat.
        """
        due = [(self._now + at, self._now + at) for at in times_s]
        return self._run(due, 0, prompt, output, 1, block, scheduled=True)

    def _run(
        self,
        due: Sequence[tuple[float, float | None]],
        more: int,
        prompt: int,
        output: int,
        streams: int,
        block: int,
        *,
        scheduled: bool,
    ) -> Repeat:
        engine = self._engine
        out: list[Timeline] = []
        coming = [(at, i) for i, (at, _) in enumerate(due)]
        heapq.heapify(coming)
        sent: dict[int, tuple[float, list[int]]] = {}
        jobs: dict[int, Job] = {}
        while coming or jobs:
            if not jobs and coming:
                self._now = max(self._now, coming[0][0])
            while coming and coming[0][0] <= self._now:
                at, _ = heapq.heappop(coming)
                job = engine.submit([f"p{self._count}"] * prompt, output)
                jobs[id(job)], sent[id(job)] = job, (at, [])
                self._count += 1
            if not engine.admit():
                continue
            seconds, first, chunk = engine.step()
            self._now += seconds
            before = {key: job.produced for key, job in jobs.items()}
            engine.advance(seconds, first, chunk)
            for key, job in list(jobs.items()):
                if job.produced > before[key]:
                    sent[key][1].append(round(self._now * NS_PER_S))
                if job.produced >= job.wanted:
                    del jobs[key]
                    out.append(self._timeline(len(out), *sent.pop(key), prompt, scheduled=scheduled))
                    if more:
                        more -= 1
                        heapq.heappush(coming, (self._now, self._count + more))
        extras = {"open_loop": 1.0} if scheduled else {}
        return Repeat(f"virtual-{block}", block, streams, tuple(out), extras=extras)

    def _timeline(self, number: int, at: float, stamps: list[int], prompt: int, *, scheduled: bool) -> Timeline:
        sent = round(at * NS_PER_S)
        return Timeline(
            f"virtual-{number}",
            "measured",
            0,
            cold=False,
            sent_ns=sent,
            end_ns=stamps[-1],
            chunk_ns=np.array(stamps, dtype=np.int64),
            chunk_tokens=np.ones(len(stamps), dtype=np.int32),
            asked_tokens=len(stamps),
            due_ns=sent if scheduled else None,
            prompt_tokens=prompt,
            output_tokens=len(stamps),
            finish="length",
            complete=True,
        )
