"""Diachron's rules and computation: pure functions on numpy arrays, no interface and no Django."""

import os

# Read when numpy is first loaded. Tracks are analysed side by side, and our matrices are small: several threads for one
# product would only wait for each other (a third more time for the analysis of eight tracks on two cores).
for _name in ("OPENBLAS_NUM_THREADS", "MKL_NUM_THREADS", "OMP_NUM_THREADS"):
    os.environ.setdefault(_name, "1")
