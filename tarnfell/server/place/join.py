"""The page behind an enrolment link: for people at a site, who sign in nowhere and are no engineers."""

from __future__ import annotations

from urllib.parse import urlsplit

from flask import Blueprint, Response, g

from tarnfell.core.codecs import find_codec
from tarnfell.core.rates import plan_run
from tarnfell.server.http.address import address_here
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.load.words import load_words
from tarnfell.server.place import probe_file
from tarnfell.server.place.models.places import Destination, JoinLoad, JoinPage
from tarnfell.server.place.presence import look_at
from tarnfell.store import engagements as engagement_store
from tarnfell.store import people
from tarnfell.store import places as place_store
from tarnfell.store import plans as plan_store
from tarnfell.store import probes as probe_store
from tarnfell.store import sites as site_store
from tarnfell.store.db import now_us, writing
from tarnfell.store.probes import Invitation, Kind, Probe
from tarnfell.store.sites import Site
from tarnfell.work.placing.presence import is_online

blueprint = Blueprint("join", __name__)

_SAYS = {
    "open": "Nothing runs yet. Download the file and start it; this page says when it is online.",
    "expired": "This link has expired. Ask whoever sent it for a new one.",
    "revoked": "This link was revoked. If you expected it to work, ask whoever sent it.",
    "running": "It is running and online. Leave its window open and the computer awake; there is nothing else to do.",
    "offline": "It was running and is offline now. Is the computer awake, on the network, and the window still open? "
    "Start the same file again to go on.",
    "finished": "The work is finished. You can close the window and delete the file. Thank you.",
}


@endpoint(blueprint, "GET", "/api/join/<code>", audience="anyone", response=JoinPage)
def show_join(code: str) -> JoinPage:
    """What will happen on this network, the file to start, and whether it is online."""
    invitation = require_invitation(code, "program")
    if invitation.opened_us is None and invitation.good:
        with writing(g.db):
            probe_store.note_invitation(g.db, invitation, "opened")
    probe = probe_store.probe_by_id(g.db, invitation.probe_id)
    site = site_store.site_by_id(g.db, probe.site_id)
    look_at(site.id)
    state = _state(invitation, probe)
    inviter = people.get_user(g.db, invitation.invited_by) if invitation.invited_by else None
    file = f"{address_here()}/api/join/{code}/{probe_file.FILE_NAME}"
    name = probe_file.FILE_NAME
    return JoinPage(
        site=site.name,
        engagement=engagement_store.engagement_by_id(g.db, site.engagement_id).name,
        test_point=probe.test_point,
        probe=probe.name,
        from_whom=inviter.name if inviter else "your consultant",
        until_us=invitation.until_us,
        time_zone=site.time_zone,
        state=state,  # type: ignore[arg-type]
        says=_SAYS[state],
        destinations=_destinations(site),
        loads=_loads(probe),
        file=file,
        file_kb=len(probe_file.program()) // 1000 + 1,
        command_unix=f"curl -fsSLo {name} {file} && python3 {name}",
        command_windows=f"curl.exe -fsSLo {name} {file}; if ($?) {{ py {name} }}",
    )


@endpoint(blueprint, "GET", f"/api/join/<code>/{probe_file.FILE_NAME}", audience="anyone", produces="application/zip")
def fetch_file(code: str) -> Response:
    """The probe's file, made for its test_point."""
    invitation = require_invitation(code, "program")
    if not invitation.good:
        raise Problem(410, _SAYS[_state(invitation, probe_store.probe_by_id(g.db, invitation.probe_id))])
    with writing(g.db):
        probe_store.note_invitation(g.db, invitation, "fetched")
    body = probe_file.probe_file(address_here(), invitation.code, invitation.probe_id)
    headers = {"Content-Disposition": f'attachment; filename="{probe_file.FILE_NAME}"'}
    return Response(body, mimetype="application/zip", headers=headers)


@endpoint(blueprint, "GET", "/api/join/<code>/tarnfell-probe.service", audience="anyone", produces="text/plain")
def fetch_service(code: str) -> Response:
    """A service unit for a small box that is always on."""
    probe = probe_store.probe_by_id(g.db, require_invitation(code, "program").probe_id)
    text = probe_file.service_unit(probe.name, site_store.site_by_id(g.db, probe.site_id).name)
    headers = {"Content-Disposition": 'attachment; filename="tarnfell-probe.service"'}
    return Response(text, mimetype="text/plain", headers=headers)


def require_invitation(code: str, kind: Kind) -> Invitation:
    """The invitation of a probe of that kind. Raises Problem."""
    invitation = probe_store.invitation_by_code(g.db, code)
    if invitation is None or probe_store.probe_by_id(g.db, invitation.probe_id).kind != kind:
        raise Problem(404, "This link is not known here. Was it copied whole? Ask whoever sent it.")
    return invitation


def _state(invitation: Invitation, probe: Probe) -> str:
    if invitation.used_us is None:
        if invitation.revoked_us is not None:
            return "revoked"
        return "open" if invitation.until_us > now_us() else "expired"
    if probe.retired_us is not None:
        return "finished"
    return "running" if is_online(probe) else "offline"


def _loads(probe: Probe) -> list[JoinLoad]:
    """What is scheduled from this probe, with what it puts on the line."""
    found = []
    site = site_store.site_by_id(g.db, probe.site_id)
    for plan in plan_store.plans_of(g.db, site.id):
        if plan.probe_id != probe.id or plan.state != "scheduled" or plan.next_us is None:
            continue
        load = plan_run(find_codec(plan.codec), plan.ptime_ms, plan.shape, site.link, plan.direction, plan.video)
        ways = 2 if plan.direction == "both" else 1
        at_top = load.each_way_line_kbps * plan.shape.call_s * plan.shape.rounds * ways / 8000
        found.append(
            JoinLoad(
                words=load_words(plan.shape, plan.direction, plan.video),
                next_us=plan.next_us,
                recurs=plan.rule,
                run_s=plan.shape.length_s,
                peak_kbps=load.each_way_line_kbps,
                volume_mb=at_top * sum(plan.shape.steps) / plan.shape.most,
            )
        )
    return found


def _destinations(site: Site) -> list[Destination]:
    """Where the probe will speak to, for whoever runs the firewall."""
    server = urlsplit(address_here())
    port = server.port or (443 if server.scheme == "https" else 80)
    found = [Destination(host=server.hostname or "", ports=f"TCP {port}", what="its instructions and its results")]
    for far in place_store.far_ends_of(g.db, site.id):
        media = f"UDP {far.media_low}–{far.media_high}" if far.media_low else "UDP ports the far end names"
        found.append(Destination(host=far.host, ports=f"TCP {far.port}, {media}", what=f"test calls to {far.name}"))
    return found
