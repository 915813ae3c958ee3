"""A tempo map inside audio files, so that whoever gets a track gets its bars.

- :mod:`~core.formats.carried.content`: what is carried, and as which text
- :mod:`~core.formats.carried.id3`: as ID3 frames (MP3, and a chunk of WAV)
- :mod:`~core.formats.carried.riff`: WAV, RF64 and BW64 with cue points
- :mod:`~core.formats.carried.vorbis_comment`: FLAC and Ogg
- :mod:`~core.formats.carried.files`: any of these, by what is in the file
"""

from core.formats.carried.content import CarriedMap, CarryError, Section
from core.formats.carried.files import carry, read_carried

__all__ = ["CarriedMap", "CarryError", "Section", "carry", "read_carried"]
