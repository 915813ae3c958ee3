"""What the engineer wants of the playing, as it is now; earlier states are in the session's history."""

from django.db import models


class Reshape(models.Model):
    """The row of a session: :class:`core.reshaping.plan.Reshaping` as JSON."""

    session = models.OneToOneField("library.Session", on_delete=models.CASCADE, related_name="reshape")
    wanted = models.JSONField(default=dict)
    writing = models.JSONField(default=dict, help_text="how the reshaped tracks are to be written")
    linking = models.JSONField(default=dict, help_text="how a leader is to be linked, for the job")
