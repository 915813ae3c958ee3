"""Audio files in and out: ``audio.inspect``, ``audio.read``, ``audio.blocks``, resampled copies, waveform peaks.

Samples are float32 arrays ``(frames, channels)``, full scale is 1.
"""

from core.audio.files import BLOCK, FORMATS, AudioError, AudioInfo, Samples, blocks, inspect, mono, read
from core.audio.health import SILENCE, Health
from core.audio.resampling import mono_at, write_at_rate

__all__ = [
    "BLOCK",
    "FORMATS",
    "SILENCE",
    "AudioError",
    "AudioInfo",
    "Health",
    "Samples",
    "blocks",
    "inspect",
    "mono",
    "mono_at",
    "read",
    "write_at_rate",
]
