"""Logistic regression."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import minimize

Floats = NDArray[np.float64]


def logistic(
    x: Floats, y: Floats, weight: Floats | None = None, strength: float = 0.5, most: float | None = None
) -> Floats:
    """Weights of a constant and of each column of ``x``, these at most ``most``, for the probability of ``y`` (logistic
    regression)."""
    spread, weight = x.std(axis=0) + 1e-6, np.ones(len(y)) if weight is None else weight
    z = np.column_stack([np.ones(len(x)), x / spread])

    def loss(w: Floats) -> tuple[float, Floats]:
        p = 1 / (1 + np.exp(-(z @ w)))
        likelihood = weight * (y * np.log(p + 1e-9) + (1 - y) * np.log(1 - p + 1e-9))
        slope = z.T @ (weight * (p - y)) + 2 * strength * np.concatenate([[0], w[1:]])
        return strength * float(w[1:] @ w[1:]) - float(likelihood.sum()), slope

    bounds = [(None, None), *[(None, most)] * x.shape[1]]
    found = minimize(loss, np.zeros(z.shape[1]), jac=True, method="L-BFGS-B", bounds=bounds).x
    return np.concatenate([found[:1], found[1:] / spread])


def probability(weights: Floats, x: Floats) -> Floats:
    """Of each row of ``x``, by weights of :func:`logistic`."""
    return np.asarray(1 / (1 + np.exp(-(weights[0] + x @ weights[1:]))))
