"""What is wrong with a recording: damaged samples, clipping, silence, a missing end, inverted polarity."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from core.audio.files import AudioInfo, Samples, polarity_is_inverted

#: A peak under this (-100 dBFS) is silence.
SILENCE = 1e-5
#: A sample from here on stands at full scale.
_FULL_SCALE = 0.9999


@dataclass
class Health:
    """Counts of what is wrong, counted block by block; ``peak``: the largest absolute sample; ``inverted``: whether the
    polarity of one channel is."""

    not_numbers: int = 0
    clipped: int = 0
    peak: float = 0.0
    inverted: bool = False

    def check(self, block: Samples) -> Samples:
        """Count what is wrong in a block ``(frames, channels)``; return it with silence for what is not finite."""
        largest = float(max(block.max(), -block.min()))  # not finite where any sample is not
        if not np.isfinite(largest):
            bad = ~np.isfinite(block)
            self.not_numbers += int(bad.sum())
            block = np.where(bad, np.float32(0), block)
            largest = float(np.abs(block).max())
        self.peak = max(self.peak, largest)
        self.inverted |= polarity_is_inverted(block)
        if largest >= _FULL_SCALE:
            # three full-scale samples in a row are a flattened peak (common practice)
            full = np.abs(block) >= _FULL_SCALE
            self.clipped += int((full[2:] & full[1:-1] & full[:-2]).sum())
        return block

    def remarks(self, info: AudioInfo) -> list[str]:
        """Sentences for the engineer; the recording is usable all the same."""
        out = []
        if info.missing:
            out.append(f"The file ends early: about {info.missing / info.rate:.1f} s that it announces are missing.")
        if self.not_numbers:
            out.append(f"Samples that are not numbers: {self.not_numbers}. They play as silence.")
        if self.peak < SILENCE:
            out.append("The track is silent and gives the analysis nothing.")
        elif self.clipped:
            out.append(f"Clipped. Samples flat at full scale: {self.clipped}. Attacks are found all the same.")
        if self.inverted:
            out.append("The polarity of one channel is inverted. In mono nothing is left: only the first is analysed.")
        return out
