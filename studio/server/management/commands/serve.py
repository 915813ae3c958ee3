"""One command that runs the studio: database brought up to date, web server, and a worker that is kept alive."""

import os
import signal
import subprocess
import sys
import threading
from pathlib import Path
from typing import Any

import waitress
from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandParser
from django.db import connection
from django.urls import reverse

from core.demo import boathouse
from studio.analysis.work import listen_again
from studio.jobs.tasks import revive
from studio.library.models import Session
from studio.wsgi import application


def opening(demo: bool) -> str:
    """Where to begin: at the main demo's desk where it is served, else at the library."""
    main = Session.objects.filter(title=boathouse.TITLE).first() if demo else None
    return reverse("desk", args=[main.pk]) if main else reverse("library")


#: Bytes of the database's log from which on it is written back.
LOG = 4 * 2**20


def write_back() -> None:
    """Write the database's log back into it, so that no edit has to wait for the disk; readers and writers go on."""
    log = Path(f"{connection.settings_dict['NAME']}-wal")
    if log.exists() and log.stat().st_size > LOG:
        with connection.cursor() as cursor:
            cursor.execute("PRAGMA wal_checkpoint(PASSIVE)")


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--host", default="127.0.0.1")
        parser.add_argument("--port", type=int, default=8020)
        parser.add_argument("--demo", action="store_true", help="make the demo sessions if they are not there")

    def handle(self, *, host: str, port: int, demo: bool, **options: Any) -> None:
        call_command("migrate", verbosity=0)
        if demo:
            call_command("demo")
        if again := listen_again():
            self.stdout.write(f"{again} tracks are analysed again, by a newer version.")
        # a review calculates in one thread while others stream: those must not wait for their turn
        sys.setswitchinterval(0.0005)
        self.over = threading.Event()
        keeper = threading.Thread(target=self.keep_worker, daemon=True)
        keeper.start()
        # a request to stop ends it as Ctrl-C does
        signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
        try:
            server = waitress.create_server(
                application,
                host=host,
                port=port,
                threads=8,
                max_request_body_size=2**36,
                # blocks of many tracks are some megabytes: sent from memory, in large pieces
                send_bytes=2**18,
                outbuf_overflow=2**26,
                outbuf_high_watermark=2**26,
            )
            self.stdout.write(
                self.style.SUCCESS(f"Diachron is at http://{host}:{port}{opening(demo)}  (Ctrl-C stops it)")
            )
            self.stdout.flush()
            server.run()
        except (KeyboardInterrupt, SystemExit):
            pass
        finally:
            self.over.set()
            keeper.join(timeout=8)

    def keep_worker(self) -> None:
        """Start the worker, start it again when it dies, and hand on the work it left behind."""
        command = [
            sys.executable,
            sys.argv[0],
            "db_worker",
            "--interval",
            "0.5",
            "--no-startup-delay",
            "--no-reload",
        ]
        environment = {**os.environ, "DIACHRON_PARENT": str(os.getpid())}
        while not self.over.is_set():
            worker = subprocess.Popen(command, env=environment)
            while worker.poll() is None and not self.over.wait(1.0):
                revive()
                write_back()
            if self.over.is_set():
                worker.send_signal(signal.SIGTERM)
                try:
                    worker.wait(timeout=5)
                except subprocess.TimeoutExpired:
                    worker.kill()
        connection.close()
