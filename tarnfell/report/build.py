"""What a report says, before it is drawn: plain values from an evaluation."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from typing import Any
from zoneinfo import ZoneInfo

from tarnfell import __version__
from tarnfell.core.codecs import Codec
from tarnfell.core.quality import MOS_SCALE
from tarnfell.core.rates import CallRate
from tarnfell.core.site import Evaluation


@dataclass(frozen=True)
class SiteFacts:
    """What the report says of the site itself."""

    engagement: str
    name: str
    place: str
    time_zone: str
    business_hours: str
    open_minute: int
    close_minute: int
    open_days: str
    medium: str
    down_kbps: int | None
    up_kbps: int | None
    provider: str
    spot: str
    far_end: str
    codec: Codec
    ptime_ms: int
    rate: CallRate


@dataclass(frozen=True)
class Report:
    """One report at one moment."""

    site: SiteFacts
    evaluation: Evaluation
    made_local: str
    mos_scale: str
    version: str
    summary: tuple[str, ...]

    def as_json(self) -> dict[str, Any]:
        """The figures, without the readings they come from."""
        e = self.evaluation
        return {
            "site": asdict(self.site),
            "made_local": self.made_local,
            "mos_scale": self.mos_scale,
            "made_with": f"Tarnfell {self.version}",
            "summary": list(self.summary),
            "brief": asdict(e.brief),
            "verdict": asdict(e.verdict),
            "kept_bounds": [asdict(k) for k in e.kept],
            "video": asdict(e.video),
            "findings": [asdict(f) for f in e.findings],
            "legs": {"up": asdict(e.legs[0]), "down": asdict(e.legs[1])},
            "days": [asdict(day) for day in e.sheet],
        }


def build_report(site: SiteFacts, evaluation: Evaluation, at_us: int) -> Report:
    local = datetime.fromtimestamp(at_us / 1e6, UTC).astimezone(ZoneInfo(site.time_zone))
    return Report(
        site=site,
        evaluation=evaluation,
        made_local=local.strftime("%d %B %Y, %H:%M %Z"),
        mos_scale=MOS_SCALE,
        version=__version__,
        summary=_summary(evaluation),
    )


def _summary(evaluation: Evaluation) -> tuple[str, ...]:
    """The answer in a few sentences, the verdict first."""
    v, brief = evaluation.verdict, evaluation.brief
    if v.word == "no evidence":
        return ("No call has been placed from this site yet, so nothing can be said about it.",)
    opening = {
        "ready": f"This site can carry the {brief.needed_calls} calls at once it is about to be given.",
        "ready with conditions": f"This site can carry its calls if the conditions below are met; "
        f"{brief.needed_calls} calls at once are asked of it.",
        "not ready": f"This site cannot yet carry the {brief.needed_calls} calls at once it is about to be given.",
    }[v.word]
    said = [opening]
    if v.share.pct is not None:
        said.append(
            f"{v.share.pct:.1f} % of {v.share.calls} calls were acceptable, with 95 % certainty between "
            f"{v.share.low_pct:.1f} and {v.share.high_pct:.1f} %; {brief.required_share_pct:g} % is asked."
        )
    if evaluation.findings:
        top = evaluation.findings[0]
        said.append(f"What costs most: {top.title[0].lower()}{top.title[1:]}. {top.gain}")
    if v.provisional:
        said.append(f"The verdict is provisional: {', '.join(v.missing)}.")
    return tuple(said)
