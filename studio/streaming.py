"""How audio is streamed to the page."""

#: Frames a block: a third of a second at 48 kHz.
BLOCK = 16_384
