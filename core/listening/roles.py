"""What a track is: kick, bass, voice, room ..., guessed from its name, and held only where its sound agrees."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from core.listening.spectrum import Evidence
from core.listening.track import AnalysedTrack

#: Roles by what tracks are usually called (common practice), the more exact first: "snare room" is a room, "bass drum"
#: a kick.
NAMES: dict[str, str] = {
    "mix": r"mix|master|stereo ?mix|2 ?mix|bounce|print",
    "room": r"rooms?|amb(ien(t|ce))?|hall|crowd|audience|far",
    "click": r"click|metronome",
    "kick": r"kick|bass ?drum|bd|kik|kd",
    "snare": r"snare|snr|sn|rim|clap",
    "hats": r"hi-? ?hats?|hats?|hh|cymbals?|ride|crash|shaker|tambourine|maracas",
    "toms": r"toms?|floor|rack",
    "drums": r"drums?|kit|overheads?|oh|ohs|drum ?kit|beat|breakbeat",
    "percussion": r"perc(ussion)?|congas?|bongos?|cajon|djembe|timbales?|cowbell|blocks?|boots?|stomps?|sticks?",
    "bass": r"bass|e-?bass|contrabass|tuba|sub",
    "guitar": r"guitars?|gtrs?|git|ac(oustic)?|strat|banjo|mandolin|ukulele|uke|lute|harp|zither",
    "keys": r"keys?|keyboards?|piano|pno|rhodes|wurli|organ|clav(inet)?|synths?|harpsichord|accordion|squeezebox|vibes"
    r"|vibraphone|marimba|bells?|dulcimer",
    "strings": r"strings?|violins?\d?|violas?|cellos?|fiddle|quartet|vln|vla|vc",
    "wind": r"horns?|brass|trumpets?|tpt|trombones?|tbn|sax(ophone)?|flutes?|clarinets?|oboes?|bassoons?|whistle|pipes?"
    r"|harmonica",
    "voice": r"voices?|vocals?|vox|voc|singers?|lead ?v(o?x|ocals?)|choir|bv|bgv|soprano|alto|tenor|speech|talkback",
    "pad": r"pads?|atmos?|drone",
}
_NAMED = {role: re.compile(rf"(?<![a-z])(?:{words})(?![a-z])", re.IGNORECASE) for role, words in NAMES.items()}
ROLES = tuple(NAMES)
#: The microphones of a drum kit.
KIT = frozenset(("kick", "snare", "hats", "toms", "drums"))
#: Roles whose sound is strokes.
_STROKES = KIT | {"percussion", "click"}

#: Where tracks of the learning set part (150 of them, by instrument and kind of stroke; see docs/measured.md).
#: Flux of the strongest attacks: strokes have at least this, tones that nobody strikes at most that.
_LEAST_PUNCH, _MOST_PUNCH = 1.0, 4.0
#: Share of the energy below 180 Hz of what is low; share above 2 kHz of what is bright.
_LOW, _BRIGHT = 0.6, 0.36
#: Median of a track's level beside its loudest: tones sound on above this, strokes do not.
_SOUNDS_ON = 0.35


@dataclass(frozen=True)
class Sound:
    """``punch``: flux of its strongest attacks; ``low`` and ``bright``: shares of its energy below 180 Hz and above
    2 kHz; ``held``: its median level beside its loudest."""

    punch: float
    low: float
    bright: float
    held: float


def sound_of(evidence: Evidence) -> Sound:
    """How a track sounds on the whole."""
    # damaged files hold samples of any size
    level = np.nan_to_num(np.asarray(evidence.energy, dtype=np.float64))
    if not len(level):
        return Sound(0.0, 0.0, 0.0, 0.0)
    energy = np.exp(level - level.max()).mean(axis=0)
    share = energy / energy.sum()
    total = level.sum(axis=1)
    loudest = float(np.percentile(total, 99))
    held = float(np.median(total)) / loudest if loudest > 0 else 0.0
    punch = float(np.nan_to_num(evidence.percussiveness))
    return Sound(punch, float(share[0]), float(share[2]), held)


def named_role(name: str) -> str:
    """What a name says; empty where it says nothing."""
    words = name.replace("_", " ")
    return next((role for role, named in _NAMED.items() if named.search(words)), "")


def agrees(role: str, sound: Sound) -> bool:
    """Whether a track that sounds so can be what its name says."""
    if role == "kick":
        return sound.punch >= _LEAST_PUNCH and sound.low >= _LOW / 2
    if role == "hats":
        return sound.punch >= _LEAST_PUNCH / 2 and sound.low < _LOW
    if role in _STROKES:
        return sound.punch >= _LEAST_PUNCH
    if role == "bass":
        return sound.low >= _LOW / 2
    if role in ("voice", "wind", "strings", "pad"):
        return sound.punch <= _MOST_PUNCH and sound.low < _LOW
    return True


def heard_role(sound: Sound) -> str:
    """What a sound alone tells: a kick, a bass, hats; empty of anything else."""
    if sound.low >= _LOW + 0.2:
        if sound.held >= _SOUNDS_ON:
            return "bass"
        return "kick" if sound.punch >= _MOST_PUNCH else ""
    if sound.bright >= _BRIGHT and sound.punch >= _LEAST_PUNCH and sound.held < _SOUNDS_ON:
        return "hats"
    return ""


def role_of(track: AnalysedTrack) -> str:
    """What a track is, one of :data:`ROLES` or empty: what the engineer said, else :func:`guessed_role`."""
    return guessed_role(track.name, sound_of(track.evidence)) if track.role is None else track.role


def guessed_role(name: str, sound: Sound) -> str:
    """What a name says where the sound agrees; where it says nothing, what the sound alone tells; else empty."""
    if named := named_role(name):
        return named if agrees(named, sound) else ""
    return heard_role(sound)
