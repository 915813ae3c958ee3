"""Times as hours, minutes, seconds and thousandths."""


def clock_time(seconds: float) -> str:
    """As WebVTT and chapter comments write a time, ``hh:mm:ss.mmm``; zero for what lies before zero."""
    ms = max(0, round(1000 * seconds))
    return f"{ms // 3_600_000:02d}:{ms // 60_000 % 60:02d}:{ms // 1000 % 60:02d}.{ms % 1000:03d}"
