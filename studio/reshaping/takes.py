"""Two takes: one session follows another. Linking them is a job, and so is putting its tracks beside the leader's."""

from __future__ import annotations

import tempfile
from dataclasses import replace
from pathlib import Path
from typing import Literal

from django.db import transaction
from pydantic import BaseModel

from core.errors import InputError
from core.listening.track import AnalysedTrack
from core.reshaping.plan import ConformTo
from core.reshaping.takes.by_sound import link_by_sound
from core.reshaping.takes.link import Link, agreement, follow, link_by_bars, made_exact
from core.reshaping.warp import WarpError
from core.reshaping.writing import write_groups
from studio.analysis.features import analysed
from studio.caches import remembered
from studio.inputs import Bar, Body, Key
from studio.jobs.models import Job
from studio.jobs.queue import cancel, start
from studio.jobs.registry import Failed, JobKind, Report
from studio.library.models import Session, Track
from studio.library.uploads import LISTEN, Refused, add_track
from studio.reshaping.models import Reshape
from studio.reshaping.result import Result, result_of
from studio.reshaping.wanted import save_wanted, wanted_of
from studio.reshaping.work import Writing, check_space, groups_to_write

LINK, BRING = "link takes", "bring tracks"


class Linking(Body):
    """How a session is to follow ``leader`` (its key)."""

    leader: Key
    by: Literal["bars", "sound"] = "sound"
    bars_later: Bar = 0


def ask_to_link(session: Session, linking: Linking) -> Job:
    """Start the job. Raises :class:`core.errors.InputError` where the leader cannot lead."""
    leader = Session.objects.filter(pk=linking.leader).exclude(pk=session.pk).first()
    if leader is None:
        raise InputError("Choose another session that leads.")
    if linking.by == "bars" and leader.step is None:
        raise InputError(f"{leader.title} has no map yet: link it by its sound.")
    return start_linking(session, LINK, linking)


def start_linking(session: Session, kind: str, linking: BaseModel) -> Job:
    """Start a job that links as ``linking`` says; one that is still looking for another link is called off."""
    for job in session.jobs.filter(state__in=[Job.State.WAITING, Job.State.RUNNING], kind__startswith="link "):
        cancel(job)
    Reshape.objects.update_or_create(session=session, defaults={"linking": linking.model_dump()})
    return start(session, kind)


def link(job: Job, report: Report) -> None:
    """Find which seconds belong together, and let the session follow: a step of its history."""
    session = job.session
    row = Reshape.objects.filter(session=session).first()
    linking = Linking.model_validate(row.linking) if row and row.linking else None
    leader = Session.objects.filter(pk=linking.leader).first() if linking else None
    if linking is None or leader is None:
        raise Failed("The take that leads is not here any more.")
    stage = f"Linking with {leader.title}"
    report(stage, 0.0)
    theirs, own = analysed_tracks(leader), analysed_tracks(session)
    if not own or (not theirs and linking.by == "sound"):
        raise Failed("The tracks are still being analysed; link the takes when that is done.")
    try:
        if linking.by == "bars":
            found = link_by_bars(leader.tempo_map, session.tempo_map, linking.bars_later)
        else:
            found = link_by_sound(theirs, own, lambda share: report(stage, 0.9 * share))
        found = made_exact(found, theirs, own)
    except WarpError as e:
        raise Failed(str(e)) from None
    report(stage, 0.95)
    to = ConformTo(
        "take",
        map=leader.tempo_map.to_json() if leader.step else None,
        map_name=leader.title,
        link=found.to_json(),
        gaps=tuple("" for _ in found.gaps),
        leader=leader.pk,
    )
    with transaction.atomic():
        job.fence()
        fresh = Session.objects.get(pk=session.pk)
        save_wanted(fresh, replace(wanted_of(fresh), conform=to), f"Follow {leader.title}")


def analysed_tracks(session: Session) -> list[AnalysedTrack]:
    """What was found in a session's tracks, as far as that is done."""
    tracks = session.tracks.filter(analysed=True).select_related("session")
    return [a for a in map(analysed, tracks) if a is not None]


def link_of(to: ConformTo | None) -> Link | None:
    """The link that a session follows by; None where it does not."""
    return Link.from_json(to.link) if to and to.kind == "take" and to.link else None


@remembered(16)  # two numbers each
def agreement_of(session: int, leader: int, _key: str) -> tuple[int, float]:
    """:func:`core.reshaping.takes.link.agreement` of a session's result, named by its key, with its leader."""
    own = Session.objects.get(pk=session)
    other = Session.objects.filter(pk=leader).first()
    to = wanted_of(own).conform
    found = link_of(to)
    if other is None or to is None or found is None:
        return 0, 0.0
    return agreement(follow(found, to.gaps), analysed_tracks(other), analysed_tracks(own))


def bring(job: Job, report: Report) -> None:
    """Put the session's tracks, as they follow, beside the leader's."""
    session = job.session
    result = result_of(session)
    to = result.wanted.conform if result else None
    leader = Session.objects.filter(pk=to.leader or 0).first() if to else None
    if result is None or leader is None:
        raise Failed("This take follows none, or the take that leads is not here any more.")
    check_space(result, Writing())
    with tempfile.TemporaryDirectory(dir=session.folder) as kept:
        folder = Path(kept)
        groups = groups_to_write(result, folder)
        write_groups(groups, "24", lambda x: report(f"Tracks for {leader.title}", 0.95 * x), result.seconds, threads=2)
        job.fence()
        for file in sorted(folder.glob("*.wav")):
            _add(leader, file, f"{file.stem} ({session.title}).wav", result)


def _add(leader: Session, file: Path, name: str, result: Result) -> Track | None:
    """The file as a track of the leader, analysed; None where it is there already."""
    try:
        track = add_track(leader, file, name)
    except Refused:
        return None
    start(leader, LISTEN, track)
    return track


LINK_KIND = JobKind(LINK, "Linking two takes", link)
BRING_KIND = JobKind(BRING, "Tracks for the take that leads", bring)
