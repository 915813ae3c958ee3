"""A studio with an empty folder of its own, and small made-up takes to put into it."""

import hashlib
import shutil
import tempfile
from collections.abc import Hashable
from pathlib import Path
from unittest import mock

import numpy as np
import soundfile as sf
from django.test import TestCase, override_settings

from core.analysis import Analysis, analyse
from studio.caches import clear_all
from studio.desk import find_job
from studio.desk.find_job import FIND
from studio.jobs.models import Job
from studio.jobs.queue import taken
from studio.jobs.working import work
from studio.library.models import Session
from studio.library.uploads import add_track
from tests.core.test_listening import strokes

#: What was found in the same recordings by earlier tests of this process.
_found: dict[Hashable, Analysis] = {}


def _analysed_once(sources, options, progress, store):
    """:func:`core.analysis.analyse`; what is the same is analysed once and written into each test's own session."""
    key = repr(options), tuple((s.name, hashlib.blake2b(s.path.read_bytes()).digest()) for s in sources)
    if key not in _found:
        _found[key] = analyse(sources, options, progress, store)
    else:
        for source, track in zip(sources, _found[key].tracks, strict=True):
            store.write(source, track)
    return _found[key]


def settings_for(folder):
    """Sessions lie in this folder. Static files are not looked through: each client would do so anew."""
    return override_settings(SESSIONS_FOLDER=folder / "sessions", WHITENOISE_AUTOREFRESH=True)


class StudioCase(TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        settings = settings_for(self.folder)
        settings.enable()
        self.addCleanup(settings.disable)
        clear_all()  # rolled-back tests use the same keys again

    def wav(self, name="kick.wav", times=None, rate=44_100, **options):
        """A file of strokes, by default 40 at 120 a minute from one second on, every fourth stronger."""
        path = self.folder / name
        times = 1 + 0.5 * np.arange(40) if times is None else times
        x = sum(strokes(times[k::4], rate, times[-1] + 1, 0.8 if k == 0 else 0.5) for k in range(4))
        sf.write(path, x, rate, **options)
        return path

    def session(self, *paths, title="Take"):
        made = Session.objects.create(title=title)
        made.folder.mkdir(parents=True)
        for path in paths:
            add_track(made, path, path.name)
        return made

    def work(self, job):
        """Do a job here as the worker would."""
        if mine := taken(job, "worker of the tests"):
            work(mine)
        job.refresh_from_db()
        return job

    def mapped(self):
        made = self.session(self.wav())
        with mock.patch.object(find_job, "analyse", _analysed_once):
            job = self.work(Job.objects.create(session=made, kind=FIND))
        self.assertEqual(job.state, Job.State.DONE, job.message)
        made.refresh_from_db()
        return made

    def post(self, url, **said):
        return self.client.post(url, said, content_type="application/json")


class PreparedCase(StudioCase):
    """For tests that begin alike: ``prepare`` is run once for the class, and each test has a copy of what it made.

    What ``prepare`` sets on ``self`` is there in each test; rows are rolled back, files are copied.
    """

    def prepare(self):
        raise NotImplementedError

    @classmethod
    def setUpTestData(cls):
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        first = cls()
        first.client, first.folder = cls.client_class(), Path(folder.name)
        own = set(vars(first))
        with settings_for(first.folder):
            clear_all()
            first.prepare()
        for name in vars(first).keys() - own:
            setattr(cls, name, getattr(first, name))
        cls.prepared = first.folder

    def setUp(self):
        super().setUp()
        shutil.copytree(self.prepared, self.folder, dirs_exist_ok=True)
