"""Serving the web application: an installation's own plans, or the demo."""

import logging
import os
import resource
import signal
import sys
import threading
from dataclasses import replace
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Annotated, Any
from urllib.parse import urlsplit

import typer

from yardgate.cli.console import Data, Refused, err, out, settings_of
from yardgate.core.access.batch.resolve import resolve
from yardgate.core.edits.difference import difference
from yardgate.core.host.compiled import compiled
from yardgate.core.host.state import System
from yardgate.core.host.step_words import words
from yardgate.core.host.steps import Destination, steps
from yardgate.log import Form, LogLevel
from yardgate.log import begin as begin_log
from yardgate.memory import rest_collector, share_arenas
from yardgate.settings import Settings
from yardgate.store import DataTrouble, Opened, Plans, Store
from yardgate.store.accounts import Accounts
from yardgate.store.backups import alone, daily
from yardgate.store.copies import Copies
from yardgate.store.database import BESIDE, NAME
from yardgate.store.directory_servers import Servers
from yardgate.store.rollouts import Rollouts

OURS = "demo"  # a file in the folders that demos made
HOUR = 3600.0
SWITCH = 0.0005  # seconds after which a thread that works something out lets others have their turn
FILES = 8192  # that may be open at once, where the machine lets it


def serve(
    data: Data = None,
    host: Annotated[str | None, typer.Option(help="Address to listen on.")] = None,
    port: Annotated[int | None, typer.Option(min=0, max=65535)] = None,
    host_name: Annotated[
        list[str] | None, typer.Option(help="A further host name to be asked by; may be given again.")
    ] = None,
    public_url: Annotated[
        str | None,
        typer.Option(help="The address that browsers use, as of a proxy with TLS: https://yard.office.example"),
    ] = None,
    trusted_proxy: Annotated[
        list[str] | None,
        typer.Option(help="Address of a proxy that says from where requests come; may be given again."),
    ] = None,
    certificate: Annotated[
        Path | None, typer.Option(help="A certificate in PEM, to speak TLS without a proxy.")
    ] = None,
    key: Annotated[Path | None, typer.Option(help="The certificate's key.")] = None,
    log_level: Annotated[
        LogLevel | None, typer.Option(help="debug (with every command that is run to read), info, warning or error.")
    ] = None,
    log_format: Annotated[Form | None, typer.Option(help="text, or json: one object a line.")] = None,
    log_file: Annotated[
        Path | None, typer.Option(help="A file for the log; started again at 10 MB, five before it are kept.")
    ] = None,
    this_host: Annotated[
        bool, typer.Option("--this-host", help="Let administrators roll plans out on the machine that this runs on.")
    ] = False,
) -> None:
    """Serve the web application; the first start prints a link to make the administrator."""
    more = {"public_url": public_url, "trusted_proxy": trusted_proxy, "certificate": certificate, "key": key}
    more |= {"log_level": log_level, "log_format": log_format, "log_file": log_file}
    settings = settings_of(data, host=host, port=port, this_host=this_host or None, **more)
    if (settings.certificate is None) != (settings.key is None):
        raise Refused("--certificate and --key go together")
    settings.data.mkdir(parents=True, exist_ok=True, mode=0o700)
    with alone(settings.data):
        store = Store(settings.database)
        address = settings.address
        if not Accounts(store).all():
            link = f"{address}/sign-in?link={Accounts(store).link(None)}"
            said = f"Nobody can sign in yet. Make the administrator here, once, within a day:\n  {link}"
            out.print(said, soft_wrap=True, highlight=False)
        _run(store, settings, host_name or [], f"Yard Gate is at {address}")


def demo(
    data: Annotated[Path | None, typer.Option(help="Data folder of the demo.")] = None,
    port: Annotated[int, typer.Option(min=0, max=65535)] = 8737,
    fresh: Annotated[bool, typer.Option(help="Start again with the demo plan as shipped.")] = False,
) -> None:
    """Serve a made-up boatyard's plan, with a link that signs in."""
    settings = settings_of(data or Path(".yard/demo"), port=port)
    settings.data.mkdir(parents=True, exist_ok=True, mode=0o700)
    with alone(settings.data):
        _demo_folder(settings.data, fresh=fresh)
        _demo(settings)


def _demo_folder(data: Path, *, fresh: bool) -> None:
    """A folder that a demo made, or an empty one. Raises Refused for any other, so that nobody's plans are touched."""
    held = "served"
    if not (data / OURS).exists():
        if any(file.name != held for file in data.iterdir()):
            raise Refused(f"{data} was not made by a demo; it is left alone. Name an empty folder with --data", 1)
        (data / OURS).touch()
    if fresh:
        for file in (*(data / f"{NAME}{ending}" for ending in BESIDE), *data.glob("appliance.*")):
            file.unlink(missing_ok=True)
        (data / "installation").unlink(missing_ok=True)


def _demo(settings: Settings) -> None:
    from yardgate import demo as shipped
    from yardgate.drivers.directory.passwords import VARIABLE
    from yardgate.drivers.directory.simulator import SimulatedDirectory, fingerprint
    from yardgate.drivers.simulator import SimulatedAppliance

    store = Store(settings.database)
    plans, accounts = Plans(store), Accounts(store)
    folder = settings.data / "directory"
    if not plans.ids():
        joined = replace(shipped.DIRECTORY, fingerprint=fingerprint(folder, "127.0.0.1"))
        whole = shipped.plan(joined)
        made = plans.create(shipped.rolled_out_plan(whole), "Yard Gate")
        Copies(store).put(made.id, joined.id, shipped.last_copy())
        Servers(store).agree(made.id, joined.id, joined.server, "H. Vance")
        _rolled_out(store, made, settings.data)
        plans.commit(made.id, made.revision, difference(made.plan, whole), "H. Vance")
    vance = accounts.by_name("H. Vance") or accounts.add("H. Vance", "administrator")
    link = f"{settings.address}/sign-in?link={accounts.link(vance.id)}"
    try:
        directory = SimulatedDirectory(shipped.entries(), folder, port=shipped.PORT)
    except OSError:
        err.print(f"Port {shipped.PORT} is taken, so the demo's directory cannot be read.", style="yellow")
    else:
        threading.Thread(target=directory.serve_forever, daemon=True).start()
        os.environ.setdefault(f"{VARIABLE}_LANTERNQUAY", directory.password)
    try:
        appliance = SimulatedAppliance(settings.data / "appliance.json", shipped.STAND_IN_PORT)
    except OSError:
        err.print(f"Port {shipped.STAND_IN_PORT} is taken, so the demo's appliance cannot be reached.", style="yellow")
    else:
        threading.Thread(target=appliance.serve_forever, daemon=True).start()
    _run(
        store,
        settings,
        [],
        f"Yard Gate, with demo data. This link signs in, once:\n  {link}\nStart again for another. Ctrl+C ends it.",
    )


def _rolled_out(store: Store, opened: Opened, data: Path) -> None:
    """The demo's appliance as the last rollout left it, and as somebody changed it by hand since."""
    from yardgate import demo as shipped
    from yardgate.drivers.simulator import seed

    system = compiled(resolve(opened.plan, date.today()), shipped.TOP).system
    rollouts = Rollouts(store)
    rollouts.send_to(opened.id, Destination(kind="stand-in", host="127.0.0.1", port=shipped.STAND_IN_PORT))
    made = steps(System(), system)
    said = tuple(words(step) for step in made)
    rollouts.made(opened.id, made, "H. Vance")
    rollouts.keep(opened.id, "by-hand", "H. Vance", opened.revision, shipped.TOP, said, system)
    now, there, lying = datetime.now(UTC), shipped.by_hand(system), shipped.lying(system)
    earlier = shipped.snapshots(there, lying, now)
    seed(data / "appliance.json", there, lying, shipped.signed_in(now), shipped.WITHOUT_PASSWORD, earlier)


def _run(store: Store, settings: Settings, host_names: list[str], greeting: str) -> None:
    """Serve until somebody ends it; everything that was acknowledged is in the one database file then."""
    import uvicorn

    from yardgate.api.app import create_app
    from yardgate.api.transport.aside import Aside, AsideSettings
    from yardgate.api.transport.wire import Patient, Sparing

    public = urlsplit(settings.address)
    if public.scheme not in ("http", "https") or not public.hostname or public.path:
        raise Refused(f"{settings.public_url} is not an address of a server, as https://yard.office.example")
    secure = public.scheme == "https"
    hosts = {"127.0.0.1", "localhost", "::1", public.hostname, settings.host, *host_names}
    if not secure and settings.host not in ("127.0.0.1", "localhost", "::1"):
        err.print(
            f"Listening on {settings.host}: others on the network can reach it, and what they send is not encrypted unless a proxy does it.",
            style="yellow",
        )

    class Server(uvicorn.Server):
        async def startup(self, sockets: Any = None) -> None:
            await super().startup(sockets)
            if self.started:
                out.print(greeting, soft_wrap=True, highlight=False)
                sys.stdout.flush()

    try:
        begin_log(settings.log_level, settings.log_format, settings.log_file)
    except OSError as error:
        raise Refused(f"the log cannot be written: {error}", 1) from None
    for name in ("uvicorn.error", "asyncio"):
        logging.getLogger(name).addFilter(Sparing())
    _more_files()
    sys.setswitchinterval(SWITCH)
    signal.signal(signal.SIGTERM, _ended)  # the server raises it again when it has closed its connections
    over = threading.Event()
    keeping = threading.Thread(target=_keep_daily, args=(settings, over), daemon=True, name="daily copies")
    log_to = str(settings.log_file.resolve()) if settings.log_file is not None else ""
    there = AsideSettings(
        str(store.path.resolve()),
        tuple(sorted(hosts)),
        settings.this_host,
        secure,
        settings.log_level,
        settings.log_format,
        log_to,
    )
    config = uvicorn.Config(
        create_app(
            store,
            frozenset(hosts),
            this_host=settings.this_host,
            secure=secure,
            proxies=frozenset(settings.trusted_proxy),
            aside=Aside(there),
        ),
        ssl_certfile=settings.certificate,
        ssl_keyfile=settings.key,
        host=settings.host,
        port=settings.port,
        log_level="warning",
        http=Patient,
        timeout_graceful_shutdown=1,
        server_header=False,
        proxy_headers=False,
    )
    server = Server(config)
    try:
        share_arenas()
        rest_collector()
        keeping.start()
        server.run()
    except KeyboardInterrupt:
        pass
    finally:
        over.set()
        store.close()
    if not server.started:
        raise Refused(f"cannot listen on {settings.host}:{settings.port}; is something else there? Try --port", 1)


def _ended(*_: object) -> None:
    raise SystemExit(0)


def _keep_daily(settings: Settings, over: threading.Event) -> None:
    """A copy of the database each day."""
    while True:
        try:
            daily(settings.database, settings.backups)
        except DataTrouble as error:
            err.print(f"No daily copy was made: {error}", style="red", markup=False)
        if over.wait(HOUR):
            return


def _more_files() -> None:
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = FILES if hard == resource.RLIM_INFINITY else min(FILES, hard)
    if soft < wanted:
        resource.setrlimit(resource.RLIMIT_NOFILE, (wanted, hard))
