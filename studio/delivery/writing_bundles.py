"""Making a bundle: the job that writes its files and packs them as one ZIP."""

from __future__ import annotations

import shutil
import zipfile
from pathlib import Path

import soundfile as sf

from core.audio.stems import write_stem
from core.formats import smf
from core.formats.carried import CarryError, carry
from core.formats.smf import MidiError
from studio.delivery.bundles import (
    BUNDLES,
    Bundle,
    Wanted,
    archive_of,
    loops_of,
    needed_bytes,
    original_names,
    part_names,
    track_names,
    wanted_of,
)
from studio.delivery.click_files import click_file
from studio.delivery.content import carried_of, long_title, plain_title
from studio.delivery.documents import DOCUMENTS
from studio.delivery.loops import NoLoop, loop_of
from studio.delivery.mixing import common_level, mixed
from studio.delivery.order_file import map_of_order, order_of, write_order
from studio.jobs.models import Job
from studio.jobs.registry import Failed, JobKind, Report
from studio.library.models import Session, Track
from studio.parts import sound

#: Samples that are made at a time.
_PIECE = 1 << 18
#: What is left free on the disk, in bytes.
_RESERVE = 200 << 20
#: How the kinds of these jobs begin; the name of the bundle follows.
KIND_BEGINS = "bundle-"


def write(job: Job, report: Report) -> None:
    """Make the bundle that the job's kind names, as it was last asked for."""
    session, bundle = job.session, BUNDLES[job.kind.removeprefix(KIND_BEGINS)]
    wanted = wanted_of(session, bundle)
    needed, free = needed_bytes(session, bundle, wanted), shutil.disk_usage(session.folder).free - _RESERVE
    # the files and the ZIP of them lie there together for a moment
    if 2 * needed > free:
        raise Failed(
            f"The bundle takes {needed / 1e6:.0f} MB twice over; the disk has {max(0, free) / 1e6:.0f} MB left."
        )
    place = archive_of(session, bundle, wanted)
    place.parent.mkdir(parents=True, exist_ok=True)
    for old in place.parent.glob(f"{bundle.name}-*"):
        shutil.rmtree(old) if old.is_dir() else old.unlink()
    work = place.with_suffix(".work")
    work.mkdir()
    try:
        _write(session, bundle, wanted, work, report)
        partial = place.with_suffix(".partial")
        with zipfile.ZipFile(partial, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:
            for file in sorted(p for p in work.rglob("*") if p.is_file()):
                archive.write(file, file.relative_to(work).as_posix())
                report("Packing", 0.95)
        job.fence()
        partial.replace(place)
    except (MidiError, NoLoop, CarryError) as e:
        raise Failed(str(e)) from None
    finally:
        shutil.rmtree(work, ignore_errors=True)


def _write(session: Session, bundle: Bundle, wanted: Wanted, folder: Path, report: Report) -> None:
    plain, long, carried = plain_title(session), long_title(session), carried_of(session)
    for key in bundle.documents:
        report(f"Writing {DOCUMENTS[key].file}", 0.0)
        (folder / f"{plain} {DOCUMENTS[key].file}").write_bytes(DOCUMENTS[key].make(session))
    if bundle.mix:
        _write_mix(session, wanted, folder / f"{long}, mix.wav", report)
    if bundle.click:
        report("Writing the click", 0.9 if bundle.mix else 0.0)
        data = click_file(session, wanted.count_in, wanted.rate, wanted.depth)
        (folder / f"{long}, click.wav").write_bytes(data)
    tracks = list(session.tracks.all())
    if bundle.stems:
        (folder / "tracks").mkdir()
        rate = wanted.rate or session.sample_rate
        for k, (track, name) in enumerate(track_names(session).items()):
            stage = f"Writing {track.name}"
            untagged, out = folder / "untagged.wav", folder / "tracks" / name
            write_stem(
                _best_source(track, rate),
                untagged,
                round(session.seconds * rate),
                rate,
                wanted.depth,
                lambda x, k=k, stage=stage: report(stage, 0.9 * (k + x) / len(tracks)),  # type: ignore[misc]
            )
            carry(untagged, out, carried)
            untagged.unlink()
    if bundle.parts:
        _write_parts(session, wanted, folder / "parts", report)
    if bundle.originals:
        (folder / "recordings").mkdir()
        for k, (track, name) in enumerate(original_names(session).items()):
            report(f"Copying {track.name}", 0.9 * k / len(tracks))
            out = folder / "recordings" / name
            try:
                carry(track.source, out, carried.moved(-track.offset))
            except CarryError:  # of a kind that takes no map: as it came
                shutil.copyfile(track.source, out)
    if bundle.order:
        own = folder / "own.wav"
        write_order(session, own, report)
        rate, length = wanted.rate or session.sample_rate, sum(p.seconds for p in order_of(session))
        write_stem(own, folder / f"{plain}, running order.wav", round(length * rate), rate, wanted.depth)
        own.unlink()
        smf.write(map_of_order(session), session.title).file.save(folder / f"{plain}, running order.mid")
    if bundle.loops:
        loops = list(loops_of(session))
        if not loops:
            raise Failed("There are no sections yet: choose some bars under Check, Marks, and name them.")
        level = common_level(session, lambda x: report("Measuring the level", 0.3 * x))
        for k, (name, first, last) in enumerate(loops):
            report(f"Cutting {name}", 0.3 + 0.6 * k / len(loops))
            (folder / f"{name}.wav").write_bytes(loop_of(session, first, last, None, level))


def _best_source(track: Track, rate: int) -> Path:
    """The file to make a stem of: the upload itself when the rate changes, so that it is converted only once."""
    own = track.midi or track.offset or rate == track.session.sample_rate
    return track.playback if own else track.source


def _write_mix(session: Session, wanted: Wanted, path: Path, report: Report) -> None:
    """All that is heard, as it stands in the mix, turned down as a whole where it would clip."""
    level, own = common_level(session, lambda x: report("Mixing", 0.3 * x)), path.with_suffix(".own.wav")
    with sf.SoundFile(own, "w", session.sample_rate, 2, "FLOAT", format="RF64") as out:
        for at in range(0, session.frames, _PIECE):
            out.write(level * mixed(session, at, min(_PIECE, session.frames - at)))
            report("Mixing", 0.3 + 0.3 * at / max(1, session.frames))
    rate = wanted.rate or session.sample_rate
    write_stem(own, path, round(session.seconds * rate), rate, wanted.depth, lambda x: report("Mixing", 0.6 + 0.3 * x))
    own.unlink()


def _write_parts(session: Session, wanted: Wanted, folder: Path, report: Report) -> None:
    """Each part alone, from zero to the end of the take."""
    folder.mkdir()
    rate = wanted.rate or session.sample_rate
    for part, name in part_names(session).items():
        own = folder / "own.wav"
        with sf.SoundFile(own, "w", session.sample_rate, 2, "FLOAT", format="RF64") as out:
            for samples in sound.for_file(part, session.map_step, session.sample_rate, session.frames):
                out.write(samples)
                report(f"Writing {part.name}", 0.92)
        write_stem(own, folder / name, round(session.seconds * rate), rate, wanted.depth)
        own.unlink()


KINDS = [JobKind(f"{KIND_BEGINS}{b.name}", f"Bundle “{b.title}”", write) for b in BUNDLES.values()]
