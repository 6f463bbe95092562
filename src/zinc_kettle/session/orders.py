"""From a prepared workload to the orders of one episode: salts, due times, pauses, turns."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from zinc_kettle.core.plan.study import Cell, Study, shape_of, turns_of
from zinc_kettle.core.plan.traffic import arrivals_ns, thinks_ns
from zinc_kettle.core.run.budget import WARM_UP_TOKENS
from zinc_kettle.core.workload import message, with_earlier
from zinc_kettle.session.calibrate import Prepared, Workload
from zinc_kettle.wire.messages import ChatMessage, RequestOrder

WIRE_SHAPES = {"closed": "closed", "burst": "closed", "conversation": "closed", "batch": "batch", "open": "open"}


@dataclass
class Orders:
    """Makes orders for one repeat of one cell."""

    study: Study
    cell: Cell
    repeat_id: str
    salt_of: Callable[[int], str | None]
    """The salt of the n-th request, or of the n-th conversation."""
    extra: Mapping[str, Any]
    block: int = 0
    """Arrivals and pauses are drawn again in each block, alike for all its cells: repeats of one schedule would tell
    how the engine copes with that one."""
    count: int = 0

    @property
    def streams(self) -> int:
        """How many requests are to be in flight at once; an open loop does not say."""
        return int(self.cell.settings["concurrency"] or 1)

    @property
    def wire_shape(self) -> str:
        """How the driver is to send them."""
        return WIRE_SHAPES[shape_of(self.study, self.cell)]

    def warm_up(self, workload: Workload, count: int, *, cold: bool) -> list[RequestOrder]:
        """Requests that are not measured."""
        out = []
        for i in range(count):
            prompt = workload.prompts[i % len(workload.prompts)]
            out.append(self._single(prompt, "warmup", min(self._output(prompt), WARM_UP_TOKENS), cold and i == 0))
        return out

    def measured(self, workload: Workload, *, cold: bool) -> list[RequestOrder]:
        """The requests of the repeat."""
        count, shape = self.cell.requests(self.study), shape_of(self.study, self.cell)
        if shape == "conversation":
            return self._conversations(workload, count)
        prompts = workload.prompts
        load = self.study.load
        rate = float(self.cell.settings["rate"] or 0)
        due = arrivals_ns(load, count, rate, seed=self._seed) if shape == "open" else [None] * count
        thinks = self._thinks(count)
        return [
            self._single(
                prompts[i % len(prompts)],
                "measured",
                self._output(prompts[i % len(prompts)]),
                cold and i == 0,
                due_ns=due[i],
                think_ns=thinks[i],
            )
            for i in range(count)
        ]

    @property
    def _seed(self) -> str:
        return f"{self.study.seed}-{self.block}"

    def _thinks(self, count: int) -> list[int]:
        """Pauses; the first request of each stream goes out at once."""
        drawn = thinks_ns(self.study.load, count, seed=self._seed)
        return [0 if i < self.streams else pause for i, pause in enumerate(drawn)]

    def _output(self, prompt: Prepared) -> int:
        return prompt.output_tokens or int(self.cell.settings["output_tokens"] or 1)

    def _single(
        self, prompt: Prepared, role: str, output: int, cold: bool, *, due_ns: int | None = None, think_ns: int = 0
    ) -> RequestOrder:
        return self._order(
            role, self._whole(prompt, self.salt_of(self.count)), output, cold=cold, due_ns=due_ns, think_ns=think_ns
        )

    def _whole(self, prompt: Prepared, salt: str | None) -> list[ChatMessage]:
        """Messages of a request; the salt is at the front of the first message of the user."""
        messages = [ChatMessage(role, text) for role, text in (*prompt.before, ("user", prompt.body))]
        first = next(i for i, m in enumerate(messages) if m.role == "user")
        messages[first] = ChatMessage("user", with_earlier(prompt.earlier, messages[first].content, salt))
        return messages

    def _order(self, role: str, messages: list[ChatMessage], output: int, **more: Any) -> RequestOrder:
        index = self.count
        self.count += 1
        return RequestOrder(
            id=f"{self.repeat_id}-{index}",
            role=role,
            messages=messages,
            max_tokens=output,
            temperature=self.study.temperature,
            seed=self.study.seed,
            extra=dict(self.extra),
            **more,
        )

    def _conversations(self, workload: Workload, count: int) -> list[RequestOrder]:
        if workload.recorded_turns:
            return self._recorded(workload, count)
        turns = turns_of(self.study, self.cell)
        thinks = thinks_ns(self.study.load, count, seed=self._seed)
        out: list[RequestOrder] = []
        for number in range(count // turns):
            salt = self.salt_of(self.count)
            for turn in range(turns):
                prompt = workload.prompts[turn % len(workload.prompts)]
                text = message(prompt.body, salt if turn == 0 else None)
                first = turn == 0 and number < self.streams
                out.append(
                    self._order(
                        "measured",
                        [ChatMessage("user", text)],
                        self._output(prompt),
                        conversation=number,
                        turn=turn,
                        carry=True,
                        think_ns=0 if first else thinks[len(out)],
                    )
                )
        return out

    def _recorded(self, workload: Workload, count: int) -> list[RequestOrder]:
        """Whole recorded conversations, in their order, until so many requests are reached."""
        starts = [*workload.conversations, len(workload.prompts)]
        spans = [workload.prompts[a:b] for a, b in itertools.pairwise(starts)]
        thinks = thinks_ns(self.study.load, count + max(len(span) for span in spans), seed=self._seed)
        out: list[RequestOrder] = []
        number = 0
        while len(out) < count:
            salt = self.salt_of(self.count)
            for turn, prompt in enumerate(spans[number % len(spans)]):
                first = turn == 0 and number < self.streams
                out.append(
                    self._order(
                        "measured",
                        self._whole(prompt, salt),
                        self._output(prompt),
                        conversation=number,
                        turn=turn,
                        think_ns=0 if first else thinks[len(out) % len(thinks)],
                    )
                )
            number += 1
        return out
