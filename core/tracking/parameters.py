"""Numbers that decide how beats and bars are found, and where each came from.

*Fitted* ones lie in ``fitted.json``; ``make fit`` replaces them (``python -m training.fit``, from made-up takes that
are used for nothing else; ``training/README.md``). *Published* ones name their source. *Chosen* ones were tried on
learning data, or follow from what they mean; whoever changes one looks at ``python -m bench.unseen`` before and after.

Numbers of one function only (widths of a search, guards against division) stand beside that function.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path

PATH = Path(__file__).with_name("fitted.json")


def fitted(group: str) -> dict[str, float]:
    """The constants of one group by name. Raises ``KeyError``."""
    groups: dict[str, dict[str, float]] = json.loads(PATH.read_text(encoding="utf-8"))
    return groups[group]


def write_fitted(group: str, constants: dict[str, float]) -> None:
    """Replace a group; for ``training/fit.py``."""
    groups = json.loads(PATH.read_text(encoding="utf-8"))
    groups[group] = {name: round(float(value), 4) for name, value in constants.items()}
    PATH.write_text(json.dumps(groups, indent=1) + "\n", encoding="utf-8")


#: Chosen: fewer beats than this are too few to judge a chain or a take by.
FEWEST_BEATS = 8

# ---- tempo

#: Published, common practice: the range in which most music is counted, felt beats a minute.
USUAL_RANGE = (55.0, 215.0)
#: Published: the pace at which most music is counted when nothing else decides, felt beats a minute; listeners prefer
#: beats of about 600 ms (Parncutt 1994) or 500 ms (van Noorden and Moelants 1999).
USUAL_PACE = 115.0
#: Fitted, conditional logit, but for ``pace``: what each feature of a tempo hypothesis is worth, in nats. ``pace`` is
#: the published preference of listeners, log-normal with a spread of 0.2 decades (Parncutt 1994).
HYPOTHESIS_WEIGHTS = fitted("hypotheses")
#: Chosen on the fitting set, held out (docs/measured.md): by so many nats at most the pattern of a tempo hypothesis
#: lies behind that of the best one; beyond, it is simply wrong.
FAR_BEHIND = 2.0
#: Chosen: what an octave outside a range costs that the engineer gave, in nats; beyond all evidence.
RANGE_IS_MEANT = 20.0
#: Chosen: how far one take may stray from its main tempo, as a factor either way.
TEMPO_DRIFT = 1.45


#: Chosen: tempos within this factor of each other are at the same level: neither is half, double, 3:2 or 2:3 of the
#: other.
ANOTHER_LEVEL = 1.4


@dataclass(frozen=True)
class TransitionCosts:
    """How freely the tempo may move, in units of a full attack.

    ``change``: price of a 10 % change from one beat to the next; ``beat``: what each beat costs, so that a chain does
    not run through silence; ``hold``: price of one long beat after which the tempo is what it was before; ``stray``:
    how much of the price of an unusual interval (the tempo prior) is paid by beats that are counted.
    """

    change: float = 1.5
    beat: float = 0.25
    hold: float = 3.0
    stray: float = 1.0


#: Chosen: strict playing, and beats that the engineer has counted (slow-downs and holds are what is counted by hand);
#: the same where the tempo around tells, chosen on the fitting set (docs/measured.md).
STRICT = TransitionCosts()
COUNTED = TransitionCosts(change=0.3, hold=1.5)
COUNTED_AMONG = TransitionCosts(change=0.2, hold=1.5, stray=0.5)

#: Chosen on the fitting set (docs/measured.md): where the tempo moves freely, what a 10 % change costs, and what each
#: beat costs besides, in units of a full attack.
FREE_CHANGE, FREE_BEAT = 0.1, 0.05

# ---- evidence for beats

#: Chosen: the share of the beat activation in the decoding curve, the rest is the onset envelope; and the same where
#: the engineer has counted, as attacks tell more there.
ACTIVATION_SHARE, ACTIVATION_SHARE_COUNTED = 0.85, 0.2
#: Chosen: the height at which a beat of activation 1 stands in the decoding curve.
ACTIVATION_HEIGHT = 1.2

# ---- one exact tempo

#: Chosen on the fitting set, whole and cut to 12 and 20 seconds, a free player taken for a machine counting twice as
#: much as a machine that is not (docs/measured.md): the greatest unsteadiness of an exact tempo
#: (:class:`core.tracking.exact_tempo.ExactTempo`), a share of a subdivision.
STEADY = 0.04

# ---- bars

_DOWNBEATS = fitted("downbeats")
#: Fitted: what a bar costs whose length is not the main one, in nats of downbeat evidence.
ODD_BAR = _DOWNBEATS["odd bar"]
#: Chosen on the fitting set (docs/measured.md), in nats: what it costs a take to begin or end in another meter than its
#: main one (a change of meter costs as much as an odd bar); and how much each beat of a stretch speaks for its meter,
#: for each unit by which the music repeats more at that bar length than at the main one.
NEW_METER, REPEATS_IN_METER = 15.0, 3.0
#: Fitted: how much the tracks' own evidence for a downbeat counts where it goes along with the networks' (a spread of
#: it, in nats), and the patterns' log-odds; beside the activation's.
EVIDENCE_WEIGHTS = _DOWNBEATS["shown"], _DOWNBEATS["pattern"]
#: Fitted: what a division into bars is worth, in nats: ``gap``, how far downbeats stand out; ``odd``, the share of odd
#: bars; ``alike`` and ``others``, how alike beats are at the bar's length and at lengths between.
DIVISION_WEIGHTS = fitted("bars")
#: Fitted: how common each number of felt beats a bar is, in nats, where beats divide in two and in three.
METER_WEIGHTS = fitted("meters")
#: Chosen: the same for a meter that the table lacks.
RARE_METER = -0.5

# ---- ends

#: Fitted, logistic regression: log-odds that there is music at a beat, as if a fifth of all beats were none, by the
#: features of :func:`core.tracking.music.music_features`, in their order.
MUSIC_WEIGHTS = fitted("music")
#: Chosen on the fitting set (docs/measured.md): talk, applause or silence before or after the music is left out of the
#: search where its beats speak against music by so many nats together, and by so many each on average.
NO_MUSIC, NO_MUSIC_A_BEAT = 20.0, 2.0
#: Chosen: what is shorter than so many beats has little say in the tempo, and is left to what finds the exact ends; so
#: have the beats closest to the music.
SURROUNDINGS, CLOSE_TO_MUSIC = 12, 4
#: Chosen on the fitting set (docs/measured.md): the fewest beats between two pieces of music. Together they speak
#: against music by :data:`NO_MUSIC` nats or more, and each by this many on average.
SHORTEST_PAUSE, NO_MUSIC_A_BEAT_BETWEEN = 8, 1.0
#: Chosen: the fewest beats of a piece.
SHORTEST_PIECE = 16
#: Chosen on the fitting set (docs/measured.md): a stretch that was left out, perhaps as it is softer than the rest, is
#: a piece if its own beats agree this well with the activation (:func:`core.tracking.hypothesis.agreement`).
AGREES_ALONE = 0.5

# ---- confidence and doubts

#: Fitted, logistic regression: log-odds that a beat is right, by the features of
#: :func:`core.tracking.confidence.confidence_features`, in their order.
CONFIDENCE_WEIGHTS = fitted("confidence")
#: Fitted, logistic regression: log-odds that the tempo level is wrong, by
#: :func:`core.tracking.confidence.level_features`, and how sure the take's beats usually are.
LEVEL_WEIGHTS = fitted("level")
#: Fitted, logistic regression: log-odds that every bar line stands on a wrong beat, and that those of a window of
#: :data:`BARS_IN_WINDOW` bars do, by the features of :mod:`core.tracking.doubts.bar_evidence`. Those of windows were
#: fitted before takes with surroundings were: fitted with them they tell of no more (docs/measured.md).
BAR_LINE_WEIGHTS, WINDOW_WEIGHTS = fitted("bar lines"), fitted("windows of bars")
#: Fitted, logistic regression: log-odds that one of the last beats is wrong or behind the music's end, by
#: :func:`core.tracking.doubts.about_ends.end_features`.
END_WEIGHTS = fitted("end")
#: Chosen: bars that are looked at together.
BARS_IN_WINDOW = 6
#: Chosen: the probability of being wrong from which on there is a doubt about all bar lines, or those of some bars.
DOUBTED_BAR_LINES, DOUBTED_WINDOW = 0.2, 0.2
#: Fitted, logistic regression: log-odds that the bars have another number of beats, by the features of
#: :func:`core.tracking.doubts.bar_evidence.length_features`.
BAR_LENGTH_WEIGHTS = fitted("bar length")
#: Chosen on the fitting set (docs/measured.md): the probability from which on that is doubted.
DOUBTED_BAR_LENGTH = 0.3
#: Chosen on the fitting set (docs/measured.md): the same for the last beats; half of such doubts are real.
DOUBTED_END = 0.25
#: Chosen together on the fitting set, held out (docs/measured.md): the probability from which on there is a doubt about
#: the tempo; a beat with less confidence than the second may be doubted, and is if a beat beside it has less than the
#: third. Of all such pairs that leave half of the doubts real, these two tell of most wrong beats.
DOUBTED_LEVEL = 0.1
UNSURE, UNSURE_RUN = 0.8, 0.6
#: Chosen: by how many nats the score of the off-beats has to exceed that of the beats before they are taken for beats.
BETTER_OFF_BEATS = 0.5
#: Chosen: the median confidence under which the take as a whole is doubted; of such takes in the fitting set four in
#: five are wrong in a third of their places or more.
UNSURE_TAKE = 0.75
