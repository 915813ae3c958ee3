"""One command that runs the studio: data folder checked, database brought up to date, web server, and its workers."""

import logging
import os
import signal
import socket
import sqlite3
import sys
import threading
import time
import webbrowser
from pathlib import Path
from typing import Any

import waitress
from django.conf import settings
from django.core.management import call_command
from django.core.management.base import CommandError, CommandParser
from django.db import DatabaseError, connection
from django.urls import reverse
from filelock import FileLock

from core.demo import boathouse
from studio.accounts.models import first_admin
from studio.analysis.work import listen_again
from studio.commands import StudioCommand
from studio.library.models import Session
from studio.server.data_folder import DATABASE, Unusable, check_database, copy_before_update, copy_daily, locked
from studio.server.housekeeping import clear_away
from studio.server.static_files import collect, show_below
from studio.server.workers import Workers


def opening(demo: bool) -> str:
    """Where to begin: at the main demo's desk where it is served, else at the library."""
    main = Session.objects.filter(title=boathouse.TITLE).first() if demo else None
    return reverse("desk", args=[main.pk]) if main else reverse("library")


log = logging.getLogger(__name__)

#: Hosts that only this machine reaches.
LOOPBACK = ("127.0.0.1", "localhost", "::1")
#: Bytes of the largest request: a loop, a song; recordings come in smaller parts.
LARGEST_BODY = 64 * 2**20
_MOST_WORKERS = 256
#: Seconds between two looks at the workers.
_LOOK_EVERY = 0.5
#: The disk is full, or the database busy: the next look may do better.
_PASSING = (DatabaseError, sqlite3.Error, OSError)
#: Seconds between two looks for what is to be cleared away or copied.
_CLEAR_EVERY = 3600.0
#: Bytes of the database's log from which on it is written back.
LOG = 4 * 2**20


def write_back() -> None:
    """Write the database's log back into it, so that no edit has to wait for the disk; readers and writers go on."""
    log = Path(f"{connection.settings_dict['NAME']}-wal")
    if log.exists() and log.stat().st_size > LOG:
        with connection.cursor() as cursor:
            cursor.execute("PRAGMA wal_checkpoint(PASSIVE)")


def _check_host(host: str) -> None:
    """Raises :class:`CommandError` where others could reach a studio that is not prepared for them."""
    if settings.SHARED:
        if host not in LOOPBACK and "DIACHRON_HOSTS" not in os.environ:
            raise CommandError("Say in DIACHRON_HOSTS under which names the studio is reached, like studio.example.")
    elif host not in LOOPBACK:
        raise CommandError(
            f"Without accounts Diachron listens on this machine only ({', '.join(LOOPBACK)}), not on {host}. "
            "With --shared everybody has an account of their own."
        )


def _check_port(host: str, port: int) -> None:
    """Raises :class:`CommandError` where another program listens there: before the demo is made, not after."""
    if not 0 < port < 2**16:
        raise CommandError("A port is a number from 1 to 65535. Choose another --port.")
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    with socket.socket(family, socket.SOCK_STREAM) as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((host, port))
        except OSError as e:
            raise CommandError(_cannot_listen(host, port, e)) from None


def _cannot_listen(host: str, port: int, error: OSError) -> str:
    return f"Diachron cannot listen on {host}:{port}: {error.strerror}. Choose another --port."


def open_browser(url: str) -> None:
    """Show the page in a window of this machine's browser, where there is a screen for it."""
    screen = (
        os.name == "nt" or sys.platform == "darwin" or os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")
    )
    if screen:
        threading.Thread(target=webbrowser.open, args=(url,), daemon=True).start()


def proxied(address: str | None) -> dict[str, Any]:
    """The server's options where it stands behind a proxy at ``address``; else forwarded headers are thrown away."""
    if not address:
        return {"clear_untrusted_proxy_headers": True}
    return {
        "trusted_proxy": address,
        "trusted_proxy_headers": {"x-forwarded-for", "x-forwarded-host", "x-forwarded-proto"},
        "trusted_proxy_count": 1,
        "clear_untrusted_proxy_headers": True,
    }


class Command(StudioCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--host", default="127.0.0.1")
        parser.add_argument("--port", type=int, default=8020)
        parser.add_argument("--workers", type=int, default=2, help="processes that do long work beside each other")
        parser.add_argument("--shared", action="store_true", help="accounts, and sessions that belong to somebody")
        parser.add_argument("--plain-http", action="store_true", help="shared without TLS, in a network of your own")
        parser.add_argument("--behind", metavar="ADDRESS", help="of the proxy whose X-Forwarded headers are believed")
        parser.add_argument("--prefix", default="", metavar="/PATH", help="below which the proxy shows the studio")
        parser.add_argument("--open", action="store_true", help="open the page in this machine's browser")
        parser.add_argument(
            "--web-only", action="store_true", help="one more web process beside a server that runs on the same data"
        )
        parser.add_argument("--demo", action="store_true", help="make the demo sessions if they are not there")

    def handle(self, *, host: str, port: int, demo: bool, workers: int, **options: Any) -> None:
        if not 1 <= workers <= _MOST_WORKERS:
            raise CommandError(f"Between 1 and {_MOST_WORKERS} workers can be used.")
        _check_host(host)
        _check_port(host, port)
        show_below(options["prefix"])
        os.umask(0o077)  # recordings and their history are for their owner alone
        lock = None if options["web_only"] else self.take_charge(demo, {**options, "host": host, "port": port})
        # whoever serves styles and scripts looks for them when it begins
        from studio.server.warming import warm_later
        from studio.wsgi import application

        # a review calculates in one thread while others stream: those must not wait for their turn
        sys.setswitchinterval(0.0005)
        self.over = threading.Event()
        keeper = threading.Thread(target=self.keep_workers, args=(workers,), daemon=True)
        if lock:
            keeper.start()
        # a request to stop ends it as Ctrl-C does
        signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
        try:
            server = waitress.create_server(
                application,
                host=host,
                port=port,
                threads=8,
                max_request_body_size=LARGEST_BODY,
                # requests that are begun and not ended must not keep others out
                connection_limit=2000,
                asyncore_use_poll=True,
                channel_timeout=60,
                # blocks of many tracks and parts of uploads are some megabytes: in memory, in large pieces
                recv_bytes=2**18,
                inbuf_overflow=2**23,
                send_bytes=2**18,
                outbuf_overflow=2**26,
                outbuf_high_watermark=2**26,
                url_prefix=options["prefix"],
                **proxied(options["behind"]),
            )
            self.stdout.write(
                self.style.SUCCESS(
                    f"Diachron is at http://{host}:{port}{options['prefix']}{opening(demo)}  (Ctrl-C stops it)"
                )
            )
            self.stdout.flush()
            if options["open"]:
                open_browser(f"http://{host}:{port}{options['prefix']}{opening(demo)}{'#tour' if demo else ''}")
            warm_later()
            server.run()
        except (KeyboardInterrupt, SystemExit):
            pass
        except OSError as e:  # in use, or not allowed
            raise CommandError(_cannot_listen(host, port, e)) from None
        finally:
            self.over.set()
            if lock:
                keeper.join(timeout=8)
                lock.release()

    def take_charge(self, demo: bool, options: dict[str, Any]) -> FileLock:
        """Be the one server that keeps the data folder: bring its database up to date, prepare what is served."""
        database = settings.DATA / DATABASE
        try:
            lock = locked(settings.DATA)
            check_database(database)
        except Unusable as e:
            raise CommandError(str(e)) from None
        if copy := copy_before_update(database):
            self.stdout.write(f"The data are brought up to this version; as they were they are kept in {copy}.")
        call_command("migrate", verbosity=0)
        if demo:
            call_command("demo", dressed=True)
        if settings.SHARED:
            collect()
            self.tell_first_admin(options)
        if again := listen_again():
            self.stdout.write(f"{again} track{'s' * (again != 1)} will be analysed again, by a newer version.")
        return lock

    def tell_first_admin(self, options: dict[str, Any]) -> None:
        if not (token := first_admin()):
            return
        here = f"http://{options['host']}:{options['port']}{options['prefix']}"
        where = here if options["behind"] is None else "the studio's address"
        self.stdout.write(
            f"There is no administrator yet. Make that account at {where}{reverse('invited', args=[token])}"
        )

    def keep_workers(self, count: int) -> None:
        """Look after the workers, and write the database's log back, until the server stops."""
        workers, cleared = Workers(count), -_CLEAR_EVERY
        while not self.over.is_set():
            try:
                workers.look_after()
                write_back()
                if time.monotonic() - cleared > _CLEAR_EVERY:
                    cleared = time.monotonic()
                    if connection.vendor == "sqlite":  # other databases have their own ways
                        copy_daily(Path(connection.settings_dict["NAME"]))
                    clear_away()
            except _PASSING:
                log.exception("looking after the workers")
                connection.close()
            self.over.wait(_LOOK_EVERY)
        workers.stop()
        connection.close()
