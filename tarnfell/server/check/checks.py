"""Checking a site: asked for, followed as the answers come, and compared with the check before."""

from __future__ import annotations

import ipaddress
from collections.abc import Callable, Sequence
from dataclasses import asdict, replace

from flask import Blueprint, Response, g

from tarnfell.core.check.usual import USUAL_PORTS
from tarnfell.core.check.values import USUAL, Limits
from tarnfell.exchange.services import NotAList, as_csv, as_toml, read_services
from tarnfell.server.access import require_check, require_probe, require_site
from tarnfell.server.check.ends import far_end_choices, probe_choices
from tarnfell.server.check.models.checks import (
    AccountForm,
    AskCheck,
    CheckEvidence,
    CheckPage,
    CheckView,
    ServiceForm,
    ServicesForm,
    ServicesText,
    WishForm,
)
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.place.presence import look_at
from tarnfell.store import checks as check_store
from tarnfell.store import engagements as engagement_store
from tarnfell.store import jobs as job_store
from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store.checks import Wish
from tarnfell.store.db import writing
from tarnfell.store.sites import Site
from tarnfell.wire import WireError, dns
from tarnfell.wire.kinds.check import CheckResult, ServiceAsked
from tarnfell.wire.kinds.fields import plain, read
from tarnfell.wire.kinds.signalling import SipAccount
from tarnfell.work.judging.checks import QUESTIONS, Checked, checks_of, ladder_text
from tarnfell.work.placing.rules import about_ends, about_presence

blueprint = Blueprint("checks", __name__)

SHOWN = 12
WORDS = {
    "waiting": "Waiting for the probe.",
    "taken": "Picked up by the probe.",
    "running": "Asking.",
    "done": "Done.",
    "failed": "Failed.",
}


@endpoint(blueprint, "GET", "/api/sites/<slug>/checks", response=CheckPage)
def show_checks(slug: str) -> CheckPage:
    """The newest checks of a site, and what the next is to ask."""
    return _page(require_site(slug))


@endpoint(blueprint, "POST", "/api/sites/<slug>/checks", response=CheckPage)
def ask_check(slug: str, body: AskCheck) -> CheckPage:
    """Have a probe ask its network every cheap question on the way to a far end."""
    site = require_site(slug)
    probe = require_probe(site, body.probe_id)
    reason = about_ends(g.db, site, probe, place_store.far_end_by_id(g.db, body.far_end_id)) or about_presence(probe)
    if reason:
        raise Problem(409, reason.words)
    with writing(g.db):
        job_store.ask(g.db, site.id, probe.id, "check", g.user.id, plain(check_store.Asked(body.far_end_id)))
    return _page(site)


@endpoint(blueprint, "POST", "/api/sites/<slug>/checks/<int:job_id>/stop", response=CheckPage)
def stop_check(slug: str, job_id: int) -> CheckPage:
    """Ask no more; what came back is kept."""
    site = require_site(slug)
    with writing(g.db):
        job_store.ask_stop(g.db, require_check(site, job_id).id)
    return _page(site)


@endpoint(blueprint, "GET", "/api/sites/<slug>/checks/<int:job_id>/signalling.txt", produces="text/plain")
def signalling_text(slug: str, job_id: int) -> Response:
    """The messages of a check's registration and call, word by word."""
    site = require_site(slug)
    (checked,) = checks_of([require_check(site, job_id)], check_store.wish_of(g.db, site.id).limits)
    if not checked.signalling and not checked.registrar:
        raise Problem(404, "This check holds no signalling.")
    answer = Response(ladder_text(checked.signalling, checked.registrar), mimetype="text/plain")
    answer.headers.set("Content-Disposition", "attachment", filename=f"{site.slug}-signalling-{job_id}.txt")
    return answer


@endpoint(blueprint, "GET", "/api/sites/<slug>/checks/<int:job_id>/evidence", response=CheckEvidence)
def show_evidence(slug: str, job_id: int) -> CheckEvidence:
    """All that came back to a check, as the probe told it."""
    job = require_check(require_site(slug), job_id)
    if not job.result:
        raise Problem(404, "Nothing has come back to this check yet.")
    return CheckEvidence(evidence=read(CheckResult, job.result))


@endpoint(blueprint, "PUT", "/api/sites/<slug>/checks/wish", response=CheckPage, max_body=1 << 20)
def change_wish(slug: str, body: WishForm) -> CheckPage:
    """Change what the next check asks."""
    site = require_site(slug)
    for field, addresses in (
        ("The gateway", [body.gateway]), ("The edge", [body.edge]), ("An address outside", body.outside),
        ("A name server", body.resolvers),
    ):  # fmt: skip
        for address in filter(None, addresses):
            _check_address(field, address)
    for name in body.names:
        try:
            dns.question(0, name)
        except WireError as error:
            raise Problem(422, str(error)) from None
    services = _asked(body.services)
    wish = Wish(
        body.gateway, body.edge, tuple(body.outside), tuple(body.resolvers), tuple(body.names), services,
        Limits(**body.limits.model_dump()),
    )  # fmt: skip
    with writing(g.db):
        kept = check_store.wish_of(g.db, site.id).account
        check_store.keep_wish(g.db, site.id, replace(wish, account=_account(body.account, kept)))
    return _page(site)


def _account(form: AccountForm | None, kept: SipAccount | None) -> SipAccount | None:
    """The password that is kept serves only the user and the registrar that it was given for."""
    if form is None:
        return None
    is_same = kept is not None and (kept.host, kept.user) == (form.host, form.user)
    password = form.password if form.password is not None else kept.password if kept and is_same else ""
    return SipAccount(form.host, form.user, password, form.port, form.transport, form.domain)


@endpoint(blueprint, "PUT", "/api/sites/<slug>/checks/services", response=CheckPage, max_body=1 << 20)
def change_services(slug: str, body: ServicesForm) -> CheckPage:
    """Change what every site of this engagement asks."""
    site = require_site(slug)
    with writing(g.db):
        check_store.keep_services(g.db, site.engagement_id, _asked(body.services))
    return _page(site)


@endpoint(blueprint, "POST", "/api/sites/<slug>/checks/services/read", response=ServicesForm, max_body=1 << 20)
def read_service_list(slug: str, body: ServicesText) -> ServicesForm:
    """The services of a file, without keeping them."""
    require_site(slug)
    try:
        found = read_services(body.text)
    except NotAList as error:
        raise Problem(422, str(error)) from None
    return ServicesForm(services=[_service_form(one) for one in found])


@endpoint(blueprint, "GET", "/api/sites/<slug>/checks/services.toml", produces="application/toml")
def services_toml(slug: str) -> Response:
    """The engagement's services, in the form that the command line and this page read."""
    return _file(slug, "toml", "application/toml", as_toml)


@endpoint(blueprint, "GET", "/api/sites/<slug>/checks/services.csv", produces="text/csv")
def services_csv(slug: str) -> Response:
    """The engagement's services, for a spreadsheet; read back as well."""
    return _file(slug, "csv", "text/csv", as_csv)


def _file(slug: str, ending: str, kind: str, write: Callable[[Sequence[ServiceAsked]], str]) -> Response:
    site = require_site(slug)
    engagement = engagement_store.engagement_by_id(g.db, site.engagement_id)
    answer = Response(write(check_store.services_of(g.db, site.engagement_id)), mimetype=kind)
    answer.headers.set("Content-Disposition", "attachment", filename=f"{engagement.slug}-services.{ending}")
    return answer


def _asked(services: Sequence[ServiceForm]) -> tuple[ServiceAsked, ...]:
    return tuple(ServiceAsked(**one.model_dump()) for one in services)


def _service_form(one: ServiceAsked) -> ServiceForm:
    return ServiceForm.model_validate(asdict(one))


def _check_address(field: str, address: str) -> None:
    try:
        ipaddress.ip_address(address)
    except ValueError:
        raise Problem(422, f"{field} must be an address, such as 192.0.2.1; “{address}” is none.") from None


def _page(site: Site) -> CheckPage:
    look_at(site.id)
    engagement = engagement_store.engagement_by_id(g.db, site.engagement_id)
    names = {probe.id: probe.name for probe in probe_store.probes_of(g.db, site.id)}
    wish = check_store.wish_of(g.db, site.id)
    newest = job_store.newest_of_kind(g.db, site.id, "check", SHOWN)
    return CheckPage(
        site_name=site.name,
        engagement_slug=engagement.slug,
        engagement_name=engagement.name,
        time_zone=site.time_zone,
        probes=probe_choices(site),
        far_ends=far_end_choices(site),
        wish=_wish_form(wish),
        services=[_service_form(one) for one in check_store.services_of(g.db, site.engagement_id)],
        usual_ports=list(USUAL_PORTS),
        usual_limits=USUAL,
        checks=[_view(one, names) for one in checks_of(newest, wish.limits)],
    )


def _wish_form(wish: Wish) -> WishForm:
    told = asdict(wish)
    if told["account"]:
        told["account"].update(password=None, has_password=bool(told["account"]["password"]))
    return WishForm.model_validate(told)


def _view(one: Checked, names: dict[int, str]) -> CheckView:
    job, judged = one.job, one.judged
    return CheckView(
        id=job.id,
        probe=names.get(job.probe_id, "a retired probe"),
        asked_us=job.created_us,
        state=job.state,
        words=job.failure or WORDS[job.state],
        asked=one.asked,
        questions=QUESTIONS,
        stopped=job.state == "done" and job.stop_reason is not None,
        rungs=list(judged.rungs) if judged else [],
        causes=list(judged.causes) if judged else [],
        not_faults=list(judged.not_faults) if judged else [],
        signalling=list(one.signalling),
        registrar=list(one.registrar),
        sip_calls=list(one.sip_calls),
        changed=list(one.changed),
    )
