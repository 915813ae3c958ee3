"""One track of a session follows another: a second take that was recorded beside the first. Linking them is a job."""

from __future__ import annotations

from dataclasses import replace

from django.db import transaction

from core.errors import InputError
from core.reshaping.plan import Following
from core.reshaping.takes.by_sound import link_by_sound
from core.reshaping.takes.link import Link, agreement, follow, made_exact
from core.reshaping.warp import WarpError
from studio.analysis.features import analysed
from studio.caches import remembered
from studio.inputs import Body, Key
from studio.jobs.models import Job
from studio.jobs.registry import Failed, JobKind, Report
from studio.library.models import Session, Track
from studio.reshaping.models import Reshape
from studio.reshaping.takes import start_linking
from studio.reshaping.wanted import save_wanted, wanted_of

LINK_TRACKS = "link tracks"


class TrackLinking(Body):
    """The keys of the track that is to follow, and of the one that leads."""

    track: Key
    leader: Key


def ask_to_link_tracks(session: Session, linking: TrackLinking) -> Job:
    """Start the job. Raises :class:`core.errors.InputError` where these tracks cannot be linked."""
    tracks = _tracks(session, linking)
    if tracks is None:
        raise InputError("A track was taken out in another window.")
    wanted = wanted_of(session)
    if linking.leader in wanted.together([linking.track]):
        raise InputError("A track cannot follow itself, nor one that it moves together with.")
    leads = linking.leader
    for following in reversed(wanted.followings):
        leads = following.leader if leads in wanted.together(following.tracks) else leads
        if leads in wanted.together([linking.track]):
            raise InputError(f"{tracks[1].name} follows {tracks[0].name} already: take that back first.")
    return start_linking(session, LINK_TRACKS, linking)


def link_tracks(job: Job, report: Report) -> None:
    """Find which seconds of both belong together, and let the one follow: a step of the session's history."""
    session = job.session
    row = Reshape.objects.filter(session=session).first()
    linking = TrackLinking.model_validate(row.linking) if row and row.linking else None
    tracks = _tracks(session, linking) if linking else None
    if linking is None or tracks is None:
        raise Failed("One of the two tracks was taken out.")
    stage = f"Linking {tracks[0].name} with {tracks[1].name}"
    report(stage, 0.0)
    own, theirs = (analysed(t) for t in tracks)
    if own is None or theirs is None:
        raise Failed("The tracks are still being analysed; link them when that is done.")
    try:
        found = link_by_sound([theirs], [own], lambda share: report(stage, 0.9 * share))
    except WarpError as e:
        raise Failed(str(e)) from None
    found = made_exact(found, [theirs], [own])
    report(stage, 0.95)
    with transaction.atomic():
        job.fence()
        fresh = Session.objects.get(pk=session.pk)
        wanted = wanted_of(fresh)
        members = wanted.together([linking.track])
        new = Following(wanted.next_key(), members, linking.leader, found.to_json(), tuple("" for _ in found.gaps))
        others = tuple(f for f in wanted.followings if not set(f.tracks) & set(members))
        save_wanted(fresh, replace(wanted, followings=(*others, new)), f"{tracks[0].name} follows {tracks[1].name}")


def _tracks(session: Session, linking: TrackLinking) -> tuple[Track, Track] | None:
    """The one that is to follow, and the one that leads."""
    found = {t.pk: t for t in session.tracks.filter(pk__in=[linking.track, linking.leader])}
    pair = found.get(linking.track), found.get(linking.leader)
    return (pair[0], pair[1]) if pair[0] and pair[1] else None


@remembered(16)  # two numbers each
def agreement_of_tracks(session: int, key: int, _result: str) -> tuple[int, float]:
    """:func:`core.reshaping.takes.link.agreement` of a track with the one that it follows, in the result named."""
    own = Session.objects.get(pk=session)
    following = next((f for f in wanted_of(own).followings if f.key == key), None)
    if following is None:
        return 0, 0.0
    wanted = [following.tracks[0], following.leader]
    found = {t.pk: analysed(t) for t in own.tracks.filter(pk__in=wanted, analysed=True)}
    follower, leader = (found.get(pk) for pk in wanted)
    if follower is None or leader is None:
        return 0, 0.0
    return agreement(follow(Link.from_json(following.link), following.gaps), [leader], [follower])


LINK_TRACKS_KIND = JobKind(LINK_TRACKS, "Linking two tracks", link_tracks)
