"""Diachron's rules and computation: pure functions on numpy arrays, no interface and no Django."""
