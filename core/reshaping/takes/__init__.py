"""Two recordings of the same piece: which second of one belongs to which second of the other, and what only one has.

:mod:`features` say what sounds when; :mod:`warping` aligns the features of both; :mod:`by_sound` finds the stretches
that belong together, :mod:`attack_pairs` makes them exact, and :mod:`link` turns them into a warp.
"""
