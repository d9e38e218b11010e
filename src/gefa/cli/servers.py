"""Commands that keep running: servers and workers."""

from __future__ import annotations

import os
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from gefa.cli.console import WRONG_USAGE, DataFolder, failing, out_console, stored_places
from gefa.core.errors import GefaError
from gefa.core.threads import cores
from gefa.logs import LogFormat, set_up

if TYPE_CHECKING:
    from gefa.web.sign_in_service import SignInService

app = typer.Typer()

OwnDataFolder = Annotated[
    Path | None,
    typer.Option(
        "--data",
        help="The folder that keeps everything; by default gefa-data, or .gefa in the site.",
        show_default=False,
    ),
]
SiteFolderOption = Annotated[
    Path | None,
    typer.Option(
        "--site",
        help="A folder with a gefa.toml: its files are the sources, and runs write to its out.",
        show_default=False,
    ),
]
Port = Annotated[int, typer.Option("--port", min=0, max=65535, envvar="PORT")]
Host = Annotated[str, typer.Option("--host", help="The address to listen on.")]
HostNames = Annotated[
    list[str] | None,
    typer.Option(
        "--host-name",
        help="A host name to answer to, besides localhost; repeat for several.",
        envvar="GEFA_HOST_NAMES",
        show_default=False,
    ),
]
KeepFree = Annotated[
    int,
    typer.Option("--keep-free", min=0, help="MB of the disk to keep free of new files."),
]
LocalWebhooks = Annotated[
    bool,
    typer.Option(
        "--local-webhooks", help="Allow webhooks to addresses inside this machine or network."
    ),
]
Log = Annotated[LogFormat, typer.Option("--log", help="How the log is written.", envvar="GEFA_LOG")]
AccessLog = Annotated[bool, typer.Option("--access-log", help="Also log every request.")]
MetricsKey = Annotated[
    str,
    typer.Option(
        "--metrics-key",
        help="Opens /metrics to other machines.",
        envvar="GEFA_METRICS_KEY",
        show_default=False,
    ),
]
Service = Annotated[
    str,
    typer.Option(
        "--sign-in-service",
        help="An OpenID Connect issuer, https://…; the environment has GEFA_SIGN_IN_CLIENT and"
        " GEFA_SIGN_IN_SECRET for it.",
        envvar="GEFA_SIGN_IN_SERVICE",
        show_default=False,
    ),
]
BeginAnew = Annotated[
    bool,
    typer.Option("--begin-anew", help="Start even though the database does not know the pictures."),
]
TrustClock = Annotated[
    bool, typer.Option("--trust-clock", help="Start even though the clock seems to have gone back.")
]
MaxSource = Annotated[
    int,
    typer.Option("--max-source", min=1, help="The largest file to bring in, in MB."),
]
WatchUnder = Annotated[
    Path,
    typer.Option("--watch-under", help="Only folders inside this one may be watched for saves."),
]
Workers = Annotated[int, typer.Option("--workers", min=1, max=256, help="Worker processes.")]
OwnWorkers = Annotated[
    int,
    typer.Option(
        "--workers", min=0, max=256, help="Worker processes; 0 leaves the work to other machines."
    ),
]
OwnServer = Annotated[
    int | None,
    typer.Option(
        "--server", hidden=True, help="The process that started this one; this one ends with it."
    ),
]


@app.command()
def serve(
    data: OwnDataFolder = None,
    site: SiteFolderOption = None,
    host: Host = "127.0.0.1",
    port: Port = 8741,
    workers: OwnWorkers = cores(),
    watch_under: WatchUnder = Path(),
    host_name: HostNames = None,
    max_source: MaxSource = 4_000,
    keep_free: KeepFree = 500,
    local_webhooks: LocalWebhooks = False,
    log: Log = LogFormat.TEXT,
    access_log: AccessLog = False,
    metrics_key: MetricsKey = "",
    sign_in_service: Service = "",
    begin_anew: BeginAnew = False,
    trust_clock: TrustClock = False,
) -> None:
    """Serve the web application, with its workers."""
    from gefa.serve import check_owner, free_port, is_exposed
    from gefa.serve import serve as run_server
    from gefa.store.folder import alone, check_folder
    from gefa.store.store import Store
    from gefa.web.app import create_app
    from gefa.web.limits import Limits
    from gefa.work.queue import QUEUE_FILE

    set_up(log, access=access_log)
    told = stored_places()
    folder = _data_folder(data, site)
    with failing(), alone(folder):
        check_folder(folder, None if told.queue else folder / QUEUE_FILE, trust_clock=trust_clock)
        # Opened once before anything listens: what is wrong with it is said in a sentence.
        store = Store(folder, begin_anew=begin_anew)
        check_owner(store, host, folder)
        store.close()
        chosen = free_port(host, port)
        if port and chosen != port:
            raise GefaError(f"port {port} is taken.", advice="Name another with --port.")
        out_console.print(f"Gefa is at http://{host}:{chosen}/")
        limits = Limits(
            source_bytes=max_source * 1_000_000,
            keep_free=keep_free * 1_000_000,
            local_webhooks=local_webhooks,
            metrics_key=metrics_key,
        )
        app = create_app(
            folder,
            watch_under,
            host_names=host_name or (),
            limits=limits,
            exposed=is_exposed(host),
            sign_in_service=_sign_in_service(sign_in_service),
            site=site.resolve() if site else None,
        )
        run_server(folder, app, host, chosen, workers)


@app.command()
def worker(
    data: DataFolder = Path("gefa-data"),
    workers: Workers = cores(),
    server: OwnServer = None,
    log: Log = LogFormat.TEXT,
) -> None:
    """Run a worker for a server: it takes tasks from the queue of the server's data folder."""
    from gefa.work.worker import Worker

    set_up(log)
    stored_places()
    Worker(data.resolve(), workers, server).run()


@app.command()
def demo(
    data: DataFolder = Path("gefa-demo"),
    host: Host = "127.0.0.1",
    port: Port = 8741,
    workers: Workers = cores(),
) -> None:
    """Serve Gefa with a sample site, an invented kite festival."""
    from gefa.serve import check_owner, free_port, is_exposed
    from gefa.serve import serve as run_server
    from gefa.store.folder import alone, check_folder
    from gefa.store.store import Store
    from gefa.web.app import create_app
    from gefa.web.limits import Limits
    from gefa.work.queue import QUEUE_FILE
    from gefa_demo.site.app import festival
    from gefa_demo.world import SAMPLES, load_world, note_address

    set_up()
    folder = data.resolve()
    with failing(), alone(folder):
        check_folder(folder, folder / QUEUE_FILE)
        with out_console.status("Drawing the sample festival (the first time only)"):
            load_world(folder, workers)
        store = Store(folder)
        check_owner(store, host, data)
        store.close()
        chosen = free_port(host, port)
        base_url = f"http://{host}:{chosen}"
        note_address(folder, base_url)
        out_console.print(f"Gefa is at            {base_url}/")
        out_console.print(f"The sample website at {base_url}/festival/")
        out_console.print(f"Pictures to upload in {folder / SAMPLES}", soft_wrap=True)
        out_console.print("Stop it with Ctrl-C.")
        run_server(
            folder,
            create_app(
                folder,
                limits=Limits(local_webhooks=True),
                exposed=is_exposed(host),
                sample=festival,
            ),
            host,
            chosen,
            workers,
        )


def _data_folder(data: Path | None, site: Path | None) -> Path:
    from gefa.folder.site_folder import data_folder

    if site is None:
        return (data or Path("gefa-data")).resolve()
    with failing(WRONG_USAGE):
        own = data_folder(site.resolve())
    return (data or own).resolve()


def _sign_in_service(issuer: str) -> SignInService | None:
    if not issuer:
        return None
    from gefa.web.sign_in_service import SignInService

    client, secret = (os.environ.get(f"GEFA_SIGN_IN_{name}", "") for name in ("CLIENT", "SECRET"))
    service = SignInService(issuer, client, secret)
    if name := os.environ.get("GEFA_SIGN_IN_NAME"):
        service = replace(service, name=name)
    service.check()
    return service
