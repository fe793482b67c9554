"""Tables of a report that are drawn as they are: a title, what there is to say of it, and rows of words and figures."""

from __future__ import annotations

from dataclasses import dataclass

from tarnfell.core.verdict.capacity import State
from tarnfell.core.verdict.site import Evaluation

_ANSWERS: dict[State, str] = {"shown": "shown", "shown not": "not carried", "open": "open"}


@dataclass(frozen=True)
class Table:
    title: str
    says: str
    head: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    """Each as long as the head; the first cell names the row."""


def capacity_table(evaluation: Evaluation) -> Table | None:
    """Load by load; None where no call counts."""
    capacity, needed = evaluation.verdict.capacity, evaluation.brief.needed_calls
    if not capacity.steps:
        return None
    said = [f"{needed} concurrent {'call is' if needed == 1 else 'calls are'} needed."]
    if capacity.sustained is not None:
        said.append(f"Up to {capacity.sustained} are shown to be carried.")
    if capacity.fails_at is not None:
        more = f"From {capacity.fails_at} on it is shown that they are not."
        said.append(more if capacity.fails_at > 1 else "It is shown that not even one is carried.")
    if capacity.sustained is None and capacity.fails_at is None:
        said.append("No number is shown yet, either way.")
    return Table(
        "Concurrent calls",
        " ".join(said),
        ("At once", "Acceptable", "Moments", "Share, all loads together", "95 % interval", "Answer"),
        tuple(
            (
                str(step.concurrent),
                f"{step.share.good} of {step.share.calls}",
                str(step.share.moments),
                f"{step.fitted_pct:.1f} %",
                f"{step.low_pct:.1f} to {step.high_pct:.1f} %",
                _ANSWERS[step.state],
            )
            for step in capacity.steps
        ),
    )
