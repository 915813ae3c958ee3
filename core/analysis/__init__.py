"""The one way from files to a map: :func:`analyse` serves the command line, the worker and the bench."""

from core.analysis.pipeline import Analysis, AnalysisError, Source, TrackStore, analyse, analyse_sources, find_map
from core.tracking.results import TrackingOptions

__all__ = [
    "Analysis",
    "AnalysisError",
    "Source",
    "TrackStore",
    "TrackingOptions",
    "analyse",
    "analyse_sources",
    "find_map",
]
