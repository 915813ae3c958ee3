"""A session that has one of everything, so that requests find something to act on."""

from __future__ import annotations

from django.test import Client

from studio.library.models import Session


def furnish(session: Session) -> None:
    """Parts, sections, statements, a running order, chords, reshaping, through the requests that the page makes."""
    page, url = Client(), f"/sessions/{session.pk}"

    def send(path: str, **body: object) -> None:
        answer = page.post(f"{url}/{path}", body, content_type="application/json")
        if answer.status_code != 200:
            raise RuntimeError(f"{path}: {answer.content.decode()[:200]}")

    page.post(f"{url}/parts/pattern", {"pattern": "Boardwalk"})
    page.post(f"{url}/parts/empty", {"instrument": "bass"})
    send("mark", kind="section", name="Quay", stretch=[1.0, 5.0])
    send("mark", kind="section", name="Harbour", stretch=[9.0, 13.0])
    send("mark", kind="lock", stretch=[5.0, 9.0])
    page.post(f"{url}/order/add", {"all": "1"})
    session.refresh_from_db()
    send("reshape", do="conform", kind="tempo", bpm=110)
    track = session.tracks.first()
    assert track is not None
    send("reshape", do="tighten", tracks=[track.pk], start=2.0, end=8.0)
