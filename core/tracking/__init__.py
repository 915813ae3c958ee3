"""Finding beats and bars. Start with :func:`track_beats`.

- :mod:`~core.tracking.beat_tracker`: the way from analysed tracks to a map
- :mod:`~core.tracking.context`, :mod:`~core.tracking.beat_activation`: what the tracks say
- :mod:`~core.tracking.tempo_candidates`, :mod:`~core.tracking.hypothesis`: tempo
- :mod:`~core.tracking.exact_tempo`, :mod:`~core.tracking.free_ends`: machines, players to a click
- :mod:`~core.tracking.semi_markov`, :mod:`~core.tracking.decoder`: chains of beats
- :mod:`~core.tracking.downbeats`, :mod:`~core.tracking.bars`, :mod:`~core.tracking.uneven_meters`: bars
- :mod:`~core.tracking.placement`, :mod:`~core.tracking.ends`, :mod:`~core.tracking.candidate`: from a chain to a map
- :mod:`~core.tracking.music`, :mod:`~core.tracking.pieces`, :mod:`~core.tracking.joining`: music, talk and applause;
  several pieces in one recording
- :mod:`~core.tracking.confidence`, :mod:`~core.tracking.doubts`: how sure it is, and where not
- :mod:`~core.tracking.redetect`, :mod:`~core.tracking.tapping`, :mod:`~core.tracking.review`: while the map is edited
- :mod:`~core.tracking.parameters`: every fitted or chosen number
"""

from core.tracking.beat_tracker import track_beats
from core.tracking.context import AnalysisContext, NoBeats, build_context
from core.tracking.results import Alternative, TrackingOptions, TrackingResult

__all__ = [
    "Alternative",
    "AnalysisContext",
    "NoBeats",
    "TrackingOptions",
    "TrackingResult",
    "build_context",
    "track_beats",
]
