"""Rates of everything that is measured of a recording."""

#: Samples a second at which the core listens; a hop of 200 samples gives exactly 100 frames a second.
LISTENING_RATE = 20_000
#: Samples from one frame to the next.
HOP = 200
#: Frames a second of onset envelopes, bands and the beat activation.
FRAME_RATE = LISTENING_RATE / HOP
