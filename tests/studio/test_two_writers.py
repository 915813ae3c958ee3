"""Two web processes that change one session at the same moment, where the database lets both begin (PostgreSQL)."""

import contextlib
import threading
import unittest

from django.db import connection, transaction
from django.test import TransactionTestCase

from core.tempomap import TempoMap
from studio.desk.history import changed, record
from studio.desk.models import Mark
from studio.histories import Stale
from studio.library.models import Session


@unittest.skipIf(connection.vendor == "sqlite", "SQLite lets one writer begin at a time")
class TwoWriters(TransactionTestCase):
    def test_both_changes_become_steps(self):
        session = Session.objects.create(title="Take")
        record(session, TempoMap.steady(120, bars=8), "Found")
        wrong, ready = [], threading.Barrier(2)

        def write(name):
            try:
                ready.wait()
                for k in range(20):
                    if k % 3 == 0:
                        now = Session.objects.get(pk=session.pk)
                        with contextlib.suppress(Stale):  # the other was faster, and the page is told so
                            record(now, TempoMap.steady(100 + k, bars=8), f"{name} {k}", on=now.step_id)
                    else:
                        with transaction.atomic():
                            Mark.objects.create(
                                session=session, kind="section", name=f"{name} {k}", start=1 + k, end=2 + k
                            )
                            changed(session, f"{name} {k}")
            except Exception as error:
                wrong.append(error)
            finally:
                connection.close()

        both = [threading.Thread(target=write, args=(name,)) for name in ("one", "two")]
        for thread in both:
            thread.start()
        for thread in both:
            thread.join()
        self.assertEqual(wrong, [])
        steps = list(session.steps.order_by("pk").values_list("pk", "before_id"))
        self.assertEqual(len(Mark.objects.all()), 26)
        self.assertEqual([before for _, before in steps[1:]], [pk for pk, _ in steps[:-1]])  # one line, no branch
