"""The page of all sites: who can move over first, what to do first and by whom, what sites have in common."""

from __future__ import annotations

from dataclasses import replace

from tarnfell.core.verdict.decisions import Decision, decided
from tarnfell.core.verdict.site import Evaluation, evaluate_site
from tarnfell.report.engagement import EngagementReport, SiteOnPage, engagement_html, engagement_report
from tests.core.verdict.made_up import BRIEF, LOSS, QUEUE, cells, held, runs, week

READY = evaluate_site([*week(), *held()], replace(BRIEF, required_moments=120))
QUEUED = evaluate_site([*runs(cells(), up=QUEUE)], BRIEF)
LOSSY = evaluate_site([*runs(cells(), up=LOSS)], BRIEF)
BOTH = evaluate_site([*runs(cells()[::2], up=QUEUE), *runs(cells()[1::2], up=LOSS)], BRIEF)
EMPTY = evaluate_site([], BRIEF)


def page(**sites: Evaluation) -> EngagementReport:
    told = [SiteOnPage(name, one, one.brief.needed_calls) for name, one in sites.items()]
    return engagement_report("Ferries", "All of them.", "today", told)


def test_the_readier_sites_move_over_first() -> None:
    found = page(a_queued=QUEUED, b_empty=EMPTY, c_ready=READY, d_lossy=LOSSY)
    words = [one.evaluation.verdict.word for one in found.sites]
    assert [one.name for one in found.sites][:2] == ["c_ready", "b_empty"]
    assert words[0] in ("ready", "ready with conditions")
    assert words[1:] == ["not shown yet", "not ready", "not ready"]


def test_one_remedy_at_several_sites_is_one_task_with_all_its_points() -> None:
    found = page(first=QUEUED, second=QUEUED, third=LOSSY)
    by_title = {task.title: task for task in found.tasks}
    queue, loss = (by_title[one.causes[0].title] for one in (QUEUED, LOSSY))
    assert (queue.sites, loss.sites) == (("first", "second"), ("third",))
    assert queue.points == 2 * QUEUED.verdict.taken_by(QUEUED.causes[0]) > 0
    assert [task.points for task in found.tasks] == sorted((task.points for task in found.tasks), reverse=True)
    assert [(one.title, one.sites) for one in found.shared] == [(QUEUED.causes[0].title, ("first", "second"))]


def test_points_are_of_the_cause_and_no_more_than_the_site_lost() -> None:
    queue, loss = (BOTH.verdict.taken_by(cause) for cause in BOTH.faults[:2])
    lost = sum(one.lost_points for one in BOTH.verdict.dimensions)
    assert queue > 0 < loss
    assert queue + loss <= lost + 1e-9


def test_a_dismissed_cause_is_nobodys_task() -> None:
    (cause, *_) = QUEUED.faults
    told = decided(QUEUED, [Decision(cause.key, cause.leg, cause.direction, True, "A test.", "")])
    assert [task.title for task in page(only=told.evaluation).tasks] == [c.title for c in QUEUED.faults[1:]]


def test_the_page_tells_it_all_and_is_harmless() -> None:
    html = engagement_html(page(**{"<script>x</script>": QUEUED, "Harbour": READY, "Slipway": EMPTY}))
    assert "<script>" not in html
    assert "&lt;script&gt;x&lt;/script&gt;" in html
    assert "Of 3 sites, " in html
    assert "1 is not ready" in html
    assert QUEUED.faults[0].remedy.split(".")[0] in html
    assert "To close it:" in html
    assert html.index("Harbour") < html.index("Slipway") < html.index("&lt;script")
    assert "still being judged" not in html
    old = engagement_report("Ferries", "", "today", [SiteOnPage("Harbour", READY, 12, behind=True)])
    assert "Harbour: evidence is still being judged" in engagement_html(old)
    empty = engagement_html(page())
    assert "There is no site yet." in empty
    assert "To do" not in empty
