"""Recording in the page: passes that arrive while they are played, and what is measured before."""

from __future__ import annotations

from typing import Annotated

import numpy as np
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_GET, require_http_methods, require_POST
from numpy.typing import NDArray
from pydantic import Field, StringConstraints

from core.audio import growing
from core.audio.loopback import burst, latency
from core.errors import InputError
from core.listening.tuner import nearest_note, pitch
from studio.actors import corrects
from studio.disk import FULL, is_full, of_the_disk
from studio.inputs import DAMAGED, LARGEST, BadInput, Bar, Body, Form, read_body, read_form, whole
from studio.jobs.queue import start
from studio.library import stand_ins
from studio.library.models import Session
from studio.library.uploads import Refused
from studio.recording import passes, simulated
from studio.recording.map_so_far import MAP_SO_FAR
from studio.recording.models import Recording
from studio.responses import bytes_response, json_response

#: Bytes of samples that come at once; channels of a pass; samples a second.
LARGEST_PART, MOST_CHANNELS, RATES = 16 * 2**20, 32, (8_000, 384_000)
#: Seconds of sound that is tuned, or searched for the burst, at most.
LONGEST_SOUND = 4
#: Bars of music before a bar at which recording begins, at most.
MOST_BEFORE = 16
#: Bytes that recording leaves free, so that the database can always write.
RESERVE = 16 * 2**20
_KEPT = "What is played is kept here and sent again."


class NewPass(Body):
    """``starts``: seconds of the session at which its first sample belongs."""

    name: Annotated[str, StringConstraints(strip_whitespace=True, max_length=200)] = ""
    rate: int = Field(ge=RATES[0], le=RATES[1])
    channels: int = Field(ge=1, le=MOST_CHANNELS)
    starts: float = Field(ge=0, le=864_000)


class Rate(Body):
    rate: int = Field(ge=RATES[0], le=RATES[1])


class Sound(Form):
    """How samples in the body are to be read, and the pitch of A4."""

    rate: int = Field(ge=RATES[0], le=RATES[1])
    reference: float = Field(440.0, ge=300, le=600)


class Punch(Form):
    """From one bar line to another, some bars of music before; without ``last`` until it is stopped."""

    first: Bar
    last: Bar | None = None
    before: int = Field(1, ge=0, le=MOST_BEFORE)


@require_GET
def pane(request: HttpRequest, pk: int) -> HttpResponse:
    """The Record pane. It has passes that were cut off made tracks."""
    session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
    done = [r for r in session.recordings.filter(ended=True).select_related("track") if r.track and not r.track.gone]
    context = {
        "session": session,
        "passes": done,
        "empty": not session.tracks.exists() and session.step is None,
        "cut_off": corrects.get() and any(r.is_cut_off() for r in session.recordings.filter(ended=False)),
        "demo": stand_ins.are_offered(),
    }
    return render(request, "recording/pane.html", context)


@require_POST
def keep_cut_off(request: HttpRequest, pk: int) -> HttpResponse:
    """Passes that were cut off become tracks, with all that arrived of them."""
    passes.end_cut_off(get_object_or_404(Session, pk=pk))
    return HttpResponse(status=204, headers={"HX-Trigger": "tracks-changed"})


@require_POST
def begin(request: HttpRequest, pk: int) -> HttpResponse:
    """Begin a pass; samples are sent to it from now on."""
    session = get_object_or_404(Session, pk=pk)
    arguments = read_body(request, NewPass)
    session.folder.mkdir(parents=True, exist_ok=True)
    if is_full(session.folder, RESERVE):
        return json_response({"error": f"Recording cannot begin. {FULL}"}, 507)
    made = Recording.objects.create(
        session=session,
        name=arguments.name or "Take",
        rate=arguments.rate,
        channels=arguments.channels,
        starts=arguments.starts,
    )
    try:
        growing.begin(made.path, made.rate, made.channels)
    except OSError as e:
        made.delete()
        return json_response({"error": f"Recording cannot begin. {of_the_disk(e)}"}, 507)
    return json_response({"id": made.pk})


@require_http_methods(["PUT"])
def samples(request: HttpRequest, pk: int) -> HttpResponse:
    """Samples of a pass from frame ``from`` on: interleaved float32. On the disk when it is answered."""
    going = _going(pk)
    at = whole(request.GET.get("from"), 0, LARGEST, "The place of the samples is missing.")
    if whole(request.headers.get("Content-Length") or "0", 0, LARGEST, DAMAGED) > LARGEST_PART:
        raise BadInput("These are too many samples at once.", 413)
    if is_full(going.path.parent, RESERVE):
        return json_response({"error": f"{FULL} {_KEPT}"}, 507)
    try:
        frames = growing.append(going.path, going.channels, at, request.body)
    except growing.OutOfStep as e:
        return json_response({"frames": e.frames}, 409)
    except InputError:
        raise BadInput(DAMAGED, 400) from None
    except OSError as e:
        return json_response({"error": f"{of_the_disk(e)} {_KEPT}"}, 507)
    going.touch()
    return json_response({"frames": frames})


@require_POST
def look(request: HttpRequest, pk: int) -> HttpResponse:
    """Have the beats of what has arrived so far found."""
    start(_going(pk).session, MAP_SO_FAR)
    return json_response({})


@require_POST
def end(request: HttpRequest, pk: int) -> HttpResponse:
    """The pass is over and becomes a track."""
    recording = get_object_or_404(Recording.objects.select_related("session", "track"), pk=pk)
    try:
        track = passes.end(recording)
    except Refused as e:
        return json_response({"error": str(e)}, 422)
    if track is None:
        return json_response({"error": "Nothing was recorded."}, 422)
    return json_response({"track": track.pk, "name": track.name})


@require_POST
def activate(request: HttpRequest, pk: int) -> HttpResponse:
    """Of the passes of one name this one sounds from now on."""
    passes.activate(get_object_or_404(Recording.objects.select_related("session", "track"), pk=pk))
    return HttpResponse(status=204, headers={"HX-Trigger": "tracks-changed"})


@require_POST
def rate(request: HttpRequest, pk: int) -> HttpResponse:
    """A session without tracks plays and records at the rate of the input from now on."""
    session = get_object_or_404(Session, pk=pk)
    arguments = read_body(request, Rate)
    if session.tracks.exists() or session.step is not None:
        return json_response({"error": "The session has its rate already."}, 422)
    Session.objects.filter(pk=session.pk).update(rate=arguments.rate)
    return json_response({})


@require_GET
def punch(request: HttpRequest, pk: int) -> HttpResponse:
    """Seconds from which to play, and from which and to which to record, for bars of the map."""
    session = get_object_or_404(Session.objects.select_related("step"), pk=pk)
    if session.step is None:
        return json_response({"error": "There is no map yet: recording begins at the playhead."}, 422)
    arguments = read_form(request.GET, Punch)
    if arguments.last is not None and arguments.last < arguments.first:
        raise BadInput("The last bar comes before the first.")
    line = session.tempo_map.bar_seconds
    first = max(0.0, float(line(arguments.first)))
    last = None if arguments.last is None else float(line(arguments.last + 1))
    if last is not None and last <= first:
        raise BadInput("These bars lie before the recording.")
    return json_response(
        {"play": max(0.0, float(line(arguments.first - arguments.before))), "first": first, "last": last}
    )


@require_http_methods(["GET", "POST"])
def loopback(request: HttpRequest, pk: int) -> HttpResponse:
    """The burst to be played, or how long it took in what was recorded as it was played."""
    get_object_or_404(Session, pk=pk)
    arguments = read_form(request.GET, Sound)
    if request.method == "GET":
        return bytes_response(burst(arguments.rate).tobytes(), "private, no-store")
    found = latency(_mono(request, arguments.rate), arguments.rate)
    if found is None:
        return json_response({"error": "The test sound did not come back clearly. Connect an output to the input, "
                              "or hold the microphone to a loudspeaker, and try again."}, 422)  # fmt: skip
    return json_response({"samples": found.samples, "ms": 1000 * found.samples / arguments.rate})


@require_POST
def tuner(request: HttpRequest, pk: int) -> HttpResponse:
    """The note in some mono samples, and how far it is off; null where there is none."""
    get_object_or_404(Session, pk=pk)
    arguments = read_form(request.GET, Sound)
    hertz = pitch(_mono(request, arguments.rate), arguments.rate)
    if hertz is None:
        return json_response({"note": None})
    note = nearest_note(hertz, arguments.reference)
    return json_response({"note": note.name, "octave": note.octave, "cents": note.cents, "hertz": hertz})


@require_GET
def simulated_player(request: HttpRequest) -> HttpResponse:
    """What the simulated player of the demo plays, as a WAV file."""
    if not stand_ins.are_offered():
        raise Http404
    return HttpResponse(simulated.wav(), content_type="audio/wav", headers={"Cache-Control": "private, max-age=86400"})


def _going(pk: int) -> Recording:
    """A pass that is being recorded. Raises :class:`BadInput` where it is over."""
    found = get_object_or_404(Recording.objects.select_related("session"), pk=pk)
    if found.ended:
        raise BadInput("This pass is over.", 410)
    return found


def _mono(request: HttpRequest, rate: int) -> NDArray[np.float32]:
    data = request.body
    if len(data) % 4 or len(data) > 4 * LONGEST_SOUND * rate:
        raise BadInput(DAMAGED, 400)
    found = np.frombuffer(data, dtype="<f4")
    if not np.all(np.isfinite(found)):
        raise BadInput(DAMAGED, 400)
    return found
