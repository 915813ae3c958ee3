"""Stand-ins for devices, such as a simulated keyboard: they are shown where the demo was made, and nowhere else."""

from django.conf import settings


def are_offered() -> bool:
    return (settings.DATA / "demo-made").exists()
