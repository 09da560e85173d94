"""The command line: start, reduce, demo, bench, and the care of what is kept."""

from __future__ import annotations

import atexit
import gc
import os
import sys
from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager, nullcontext
from pathlib import Path
from typing import TYPE_CHECKING

import click

from narrow_beacon.bench.names import listed
from narrow_beacon.cli_numbers import Number
from narrow_beacon.cli_series import extrema, figure, period, report, survey

if TYPE_CHECKING:
    from narrow_beacon.reduce.workers import Pool

# One thread per process: work is spread over processes, and sums keep their order.
for _name in ("OMP", "OPENBLAS", "MKL", "NUMBA"):
    os.environ.setdefault(f"{_name}_NUM_THREADS", "1")


_FILE = click.Path(path_type=Path, exists=True, dir_okay=False, resolve_path=True)


@click.group(context_settings={"help_option_names": ["-h", "--help"]})
def main() -> None:
    """Narrow Beacon: from a night of raw exposures to a light curve and a report."""


_workers = click.option(
    "--workers", type=click.IntRange(1), help="Processes; default: as many as the work is worth."
)


@main.command()
@click.option("--demo/--no-demo", default=True, help="Make the demo campaign if there is none.")
@click.option("--port", type=click.IntRange(1, 65535), help="Default: 8114, or a free one.")
@click.option(
    "--allow", multiple=True, type=click.Path(path_type=Path, exists=True, file_okay=False),
    help="A folder that may be read, besides your home folder. Can be given again.",
)  # fmt: skip
@click.option(
    "--bind", default="127.0.0.1",
    help="Another address needs BEACON_PASSWORD, and --cert and --key.",
)  # fmt: skip
@click.option("--cert", type=_FILE, help="A certificate in PEM format, for https://.")
@click.option("--key", type=_FILE, help="Its private key.")
@click.option("--unencrypted", is_flag=True, help="Serve others without a certificate.")
def start(
    demo: bool,
    port: int | None,
    allow: tuple[Path, ...],
    bind: str,
    cert: Path | None,
    key: Path | None,
    unencrypted: bool,
) -> None:
    """Start the application and print the address to open."""
    from narrow_beacon.serve.places import find_places
    from narrow_beacon.serve.services import Door
    from narrow_beacon.serve.start import start as bring_up

    door = Door(bind, port or 0, os.environ.get("BEACON_PASSWORD"), cert, key)
    sys.exit(bring_up(find_places(), demo=demo, allow=allow, door=door, unencrypted=unencrypted))


def _elsewhere(root: Path) -> AbstractContextManager[Pool | None]:
    """The cluster that BEACON_DASK names, if it does, with what tasks share below ``root``; Dask is
    loaded only then.
    """
    if not os.environ.get("BEACON_DASK"):
        return nullcontext(None)
    from narrow_beacon.jobs.cluster import given_pool

    return given_pool(os.environ, root)


@main.command()
@click.argument("folder", type=click.Path(path_type=Path, file_okay=False))
def certificates(folder: Path) -> None:
    """Make certificates for a cluster of your own in FOLDER, and say how to start it with them."""
    from narrow_beacon.jobs.trust import make_trust

    made = make_trust(folder).resolve()
    keys = f"--tls-ca-file {made}/ca.pem --tls-cert {made}/cert.pem --tls-key {made}/key.pem"
    click.echo(
        f"Only you can read {made}; copy it to every machine of the cluster, by a way that nobody "
        "else reads. Then\n"
        f"  dask scheduler --protocol tls --port 8786 {keys}\n"
        f"  dask worker tls://SCHEDULER:8786 {keys} --nthreads 1 --nworkers CORES\n"
        f"  BEACON_DASK=tls://SCHEDULER:8786 BEACON_DASK_TLS={made} ./beacon start"
    )


@main.command()
@click.argument("plan", type=click.Path(path_type=Path))
@_workers
def reduce(plan: Path, workers: int | None) -> None:
    """Reduce the night that PLAN describes; on the cluster that BEACON_DASK names, if it does.

    Exit status 0 when a curve was made, 2 for an unusable plan, 3 when no exposure could be
    measured.
    """
    from narrow_beacon.plan import PlanError, read_plan
    from narrow_beacon.reduce import reduce_plan
    from narrow_beacon.screen import Bars, print_outcome

    with _in_words():
        try:
            checked = read_plan(plan)
            with _elsewhere(checked.output) as cluster, Bars() as bars:
                outcome = reduce_plan(checked, workers, bars, cluster)
        except PlanError as error:
            for line in error.mistakes:
                click.echo(line, err=True)
            sys.exit(2)
    print_outcome(outcome)
    sys.exit(0 if outcome.measured else 3)


@main.command()
@click.argument("plan", type=click.Path(path_type=Path))
@click.option(
    "--write", "folder", required=True, type=click.Path(path_type=Path, file_okay=False),
    help="Where the corrected exposures go.",
)  # fmt: skip
@click.option("--pedestal", default=0.0, type=Number(0, 1e6), help="ADU to add to all pixels.")
@_workers
@click.option("--json", "as_json", is_flag=True, help="One JSON document on standard output.")
def correct(plan: Path, folder: Path, pedestal: float, workers: int | None, as_json: bool) -> None:
    """Write the exposures of PLAN corrected, as 32-bit floating-point FITS, with WCS where placed.

    Exit status 0 when some were written, 2 for an unusable plan, 3 when none could be.
    """
    import json

    from narrow_beacon.plan import PlanError, read_plan
    from narrow_beacon.reduce.corrected import write_corrected
    from narrow_beacon.screen import Bars

    with _in_words():
        try:
            with Bars() as bars:
                written = write_corrected(read_plan(plan), folder, pedestal, workers, bars)
        except PlanError as error:
            for line in error.mistakes:
                click.echo(line, err=True)
            sys.exit(2)
    if as_json:
        click.echo(json.dumps([vars(one) for one in written], ensure_ascii=False, indent=1))
    else:
        for one in written:
            click.echo(f"{one.file}: {one.written or one.steps[0]}")
    sys.exit(0 if any(one.written for one in written) else 3)


@main.command()
@click.argument("plan", type=click.Path(path_type=Path))
@click.option("--every", type=click.IntRange(2), help="So many exposures of a night and filter.")
@click.option("--minutes", type=Number(0.1), help="Or those within so many minutes.")
@click.option(
    "--method", type=click.Choice(["clipped", "mean", "median"]), default="clipped",
    show_default=True,
)  # fmt: skip
@click.option(
    "--write", "folder", required=True, type=click.Path(path_type=Path, file_okay=False),
    help="Where the combined exposures go, with maps of what was rejected.",
)  # fmt: skip
@_workers
@click.option("--json", "as_json", is_flag=True, help="One JSON document on standard output.")
def combine(
    plan: Path, every: int | None, minutes: float | None, method: str, folder: Path,
    workers: int | None, as_json: bool,
) -> None:  # fmt: skip
    """Combine runs of the exposures of PLAN, aligned and weighted, for faint targets.

    Exit status 0 when something was written, 2 for an unusable plan, 3 when nothing could be.
    """
    import json

    from narrow_beacon.plan import PlanError, read_plan
    from narrow_beacon.reduce.combining import combine_plan
    from narrow_beacon.screen import Bars

    with _in_words():
        try:
            with Bars() as bars:
                made, left = combine_plan(
                    read_plan(plan), folder, every=every, minutes=minutes, method=method,
                    workers=workers, progress=bars,
                )  # fmt: skip
        except PlanError as error:
            for line in error.mistakes:
                click.echo(line, err=True)
            sys.exit(2)
    for words in left:
        click.echo(f"left out: {words}", err=True)
    if as_json:
        told = [{**vars(one), "files": list(one.files)} for one in made]
        click.echo(json.dumps(told, ensure_ascii=False, indent=1))
    else:
        for one in made:
            click.echo(
                f"{one.written}: {len(one.files)} exposures, {one.exposure_s:g} s, "
                f"{100 * one.rejected_share:.3f}% rejected"
            )
    sys.exit(0 if made else 3)


@main.command()
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--catalogue", type=click.Path(path_type=Path), help="A file or atlas of stars; or:")
@click.option("--cone", metavar="URL", help="A simple cone search service.")
@click.option("--near", metavar='"RA DEC"', help="Where it may be; else what the header says.")
@click.option(
    "--scale", nargs=2, type=Number(0.01, 3600), metavar="LOW HIGH",
    help="Seconds of arc a pixel; else what the header says, else 0.2 to 75.",
)  # fmt: skip
@click.option(
    "--write", "folder", type=click.Path(path_type=Path, file_okay=False),
    help="Copies of what was placed, with the WCS in the headers.",
)  # fmt: skip
@_workers
@click.option("--json", "as_json", is_flag=True, help="One JSON document on standard output.")
def solve(
    files: tuple[Path, ...], catalogue: Path | None, cone: str | None, near: str | None,
    scale: tuple[float, float] | None, folder: Path | None, workers: int | None, as_json: bool,
) -> None:  # fmt: skip
    """Find where FILES are on the sky, without a plan.

    Exit status 0 when at least one was placed, 2 where the question is unusable, 3 when none could
    be placed.
    """
    import json

    from narrow_beacon.core.errors import BeaconError
    from narrow_beacon.reduce.solving import Stars, position_of_words, solve_files
    from narrow_beacon.reduce.workers import Workers, core_count

    with _in_words():
        if (catalogue is None) == (cone is None):
            raise BeaconError("give either --catalogue FILE or --cone URL")
        if scale is not None and scale[0] > scale[1]:
            raise BeaconError(f"--scale: {scale[0]:g} is more than {scale[1]:g}")
        try:
            position = position_of_words(near) if near else None
        except ValueError as error:
            raise BeaconError(f"--near: {error}") from error
        count = min(workers or core_count(), len(files))
        with Workers(count) as pool:
            found = solve_files(files, Stars(catalogue, cone, position, scale), pool, folder)
    if as_json:
        click.echo(json.dumps([vars(one) for one in found], ensure_ascii=False, indent=1))
    else:
        for one in found:
            if not one.placed:
                click.echo(f"{one.file}: not placed: {one.reason}")
                continue
            click.echo(
                f"{one.file}: {one.ra_deg:.5f}° {one.dec_deg:+.5f}°, "
                f"{one.scale_arcsec_per_px:.4f}″ a pixel, turned {one.rotation_deg:.2f}°, "
                f"{'mirrored' if one.mirrored else 'not mirrored'}, {one.matched_stars} stars "
                f"within {one.residual_arcsec:.2f}″, chance of being false 10^{one.false_log10:.0f}"
            )
    sys.exit(0 if any(one.placed for one in found) else 3)


@main.command()
@click.argument("plan", type=click.Path(path_type=Path))
@click.option("--out", required=True, type=click.Path(path_type=Path), help=".svg, .pdf or .png")
@click.option("--width", default=15.0, type=Number(1, 600), help="Side, minutes of arc.")
@click.option("--up", default=0.0, type=Number(), help="Degrees from north through east.")
@click.option("--mirrored", is_flag=True, help="East to the right of north.")
@click.option("--band", default="", help="Of the magnitudes; V, or the catalogue's first.")
@click.option("--faintest", type=Number(), help="Magnitude of the faintest stars drawn.")
@click.option("--points", is_flag=True, help="Magnitudes with their decimal points.")
@click.option("--year", type=Number(1800, 2200), help="Of the positions; now.")
def finder(
    plan: Path, out: Path, width: float, up: float, mirrored: bool, band: str,
    faintest: float | None, points: bool, year: float | None,
) -> None:  # fmt: skip
    """Draw a finder chart of PLAN's target with the stars of its cast.

    Exit status 0 when it was drawn, 2 for an unusable plan or target.
    """
    from narrow_beacon.plan import PlanError, read_plan
    from narrow_beacon.reduce.finder import FORMATS, Look, chart_of_plan

    if out.suffix.lstrip(".") not in FORMATS:
        click.echo(f"{out}: a chart is written as {', '.join(FORMATS)}", err=True)
        sys.exit(2)
    look = Look(width, up, mirrored, faintest, points)
    with _in_words():
        try:
            words = chart_of_plan(read_plan(plan), out, look, band, year)
        except PlanError as error:
            for line in error.mistakes:
                click.echo(line, err=True)
            sys.exit(2)
    click.echo(words)


@main.command()
@click.argument("file", type=_FILE)
@click.option(
    "--write", "folder", type=click.Path(path_type=Path, file_okay=False),
    help="The atlas's folder; without it only the columns are told.",
)  # fmt: skip
@click.option(
    "--column", "said", multiple=True, metavar="MEANING=NAME",
    help="What a column means: ra=RAJ2000, V=Vmag, V_uncertainty=e_Vmag. Can be given again.",
)  # fmt: skip
@click.option("--epoch", type=Number(1800, 2200), help="Of the positions.")
@click.option("--variables", is_flag=True, help="It is a table of variable stars.")
@click.option("--json", "as_json", is_flag=True, help="One JSON document on standard output.")
def catalogue(
    file: Path, folder: Path | None, said: tuple[str, ...], epoch: float | None,
    variables: bool, as_json: bool,
) -> None:  # fmt: skip
    """Tell what the columns of a catalogue FILE mean, and make an atlas of it, which plans and
    solve can name in its place: of any size, found by position, placed in without a hint.
    """
    import json

    from narrow_beacon.core.catalogue.columns import said_of
    from narrow_beacon.core.catalogue.files import meaning_of
    from narrow_beacon.core.catalogue.tables import open_table
    from narrow_beacon.core.errors import BeaconError
    from narrow_beacon.reduce.atlas_making import make_atlas

    with _in_words():
        pairs = dict(word.partition("=")[::2] for word in said)
        if any("=" not in word for word in said):
            raise BeaconError("--column wants MEANING=NAME, as in V=Vmag")
        meaning = said_of(meaning_of(open_table(file), pairs, of_variables=variables))
        told: dict[str, object] = {"file": str(file), "columns": meaning, "written": None}
        if folder is not None:
            atlas = make_atlas(
                file, folder, epoch_yr=epoch, columns=pairs, of_variables=variables,
                told=lambda what, n: click.echo(f"{what}: {n:,}", err=True),
            )  # fmt: skip
            told |= {"written": str(folder), "stars": atlas.page.rows,
                     "bands": list(atlas.page.bands), "epoch": atlas.page.epoch_yr}  # fmt: skip
    if as_json:
        click.echo(json.dumps(told, ensure_ascii=False, indent=1))
        return
    for name, column in meaning.items():
        click.echo(f"{name}: {column}")
    if folder is not None:
        click.echo(f"{told['stars']:,} stars, bands {' '.join(atlas.page.bands)}: {folder}")


@main.command()
@click.argument("folder", type=click.Path(path_type=Path))
def demo(folder: Path) -> None:
    """Write the demo nights, their catalogue, plan and truth into FOLDER."""
    from narrow_beacon.screen import Bars
    from narrow_beacon.simulate.demo import write_demo

    if folder.exists() and any(folder.iterdir()):
        click.echo(
            f"{folder} is not empty; name a new folder, so that nothing is overwritten", err=True
        )
        sys.exit(2)
    with Bars() as bars:
        write_demo(folder, bars)
    click.echo(f"The demo nights are in {folder}. Now: ./beacon reduce {folder / 'plan.toml'}")


@main.command()
@click.argument("catalogue", type=click.Path(path_type=Path, exists=True, dir_okay=False))
@click.option("--port", type=click.IntRange(0, 65535), default=0, help="Default: a free one.")
def cone(catalogue: Path, port: int) -> None:
    """Serve a VOTable of stars as a cone search on this machine, as a stand-in for a service."""
    import threading

    from narrow_beacon.simulate.cone_service import ConeService

    with ConeService(catalogue, port) as service:
        click.echo(f"Answering cone searches at {service.url}; Ctrl+C stops it.")
        try:
            threading.Event().wait()
        except KeyboardInterrupt:
            click.echo("stopped")


@main.command(epilog=f"\b\nNAMES, each with what it measures:\n{listed()}")
@click.argument("names", nargs=-1)
@click.option(
    "--json", "out", type=click.Path(path_type=Path, dir_okay=False),
    help="Write what was measured there, too.",
)  # fmt: skip
def bench(names: tuple[str, ...], out: Path | None) -> None:
    """Measure speed and accuracy; without a name all but the longest."""
    from narrow_beacon.bench.run import run_benches

    sys.exit(run_benches(names, out))


@main.command()
@click.option("--mend", is_flag=True, help="Put right what can be made again.")
@click.option("--hashes", is_flag=True, help="Read every raw file, too; takes a while.")
def doctor(mend: bool, hashes: bool) -> None:
    """Hold records and data folder against one another.

    Exit status 0 when all is well, 1 when something is left to look at.
    """
    from narrow_beacon.serve.care import doctor as examine
    from narrow_beacon.serve.places import find_places

    left = found = 0
    with _in_words():
        for finding in examine(find_places(), mend=mend, hashes=hashes):
            found += 1
            left += not finding.mended
            click.echo(f"{'mended' if finding.mended else 'look at'}: {finding.words}")
    if not found:
        click.echo("All is well.")
    elif left and not mend:
        click.echo("./beacon doctor --mend puts right what can be made again.")
    sys.exit(1 if left else 0)


@main.command()
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False, resolve_path=True))
def backup(file: Path) -> None:
    """Write all that is kept into FILE (.tar or .tar.gz), also while the application runs.

    Raw files in your own folders are not in it.
    """
    from narrow_beacon.serve.care import backup as write
    from narrow_beacon.serve.places import find_places

    with _in_words():
        write(find_places(), file, click.echo)
        click.echo(f"Written to {file}, {file.stat().st_size / 1e6:.1f} MB.")


@main.command()
@click.argument("file", type=click.Path(path_type=Path, exists=True, dir_okay=False))
def restore(file: Path) -> None:
    """Bring back what `backup` wrote into FILE; what is there now is moved aside."""
    from narrow_beacon.serve.care import restore as bring_back
    from narrow_beacon.serve.places import find_places

    with _in_words():
        bring_back(find_places(), file, click.echo)
        click.echo("All of it is back. Now: ./beacon start")


@contextmanager
def _in_words() -> Iterator[None]:
    """What stops a command, in words and with status 2."""
    from narrow_beacon.core.disk import disk_words
    from narrow_beacon.core.errors import BeaconError

    try:
        yield
    except BeaconError as error:
        click.echo(str(error), err=True)
        sys.exit(2)
    except OSError as error:
        click.echo(disk_words(error), err=True)
        sys.exit(2)


for _command in (period, extrema, survey, report, figure):
    main.add_command(_command)


def run() -> None:
    """The command line. When all is done and written, the process ends at once: to take its
    libraries down piece by piece would cost the observer another half a second.
    """
    status = 1

    def leave() -> None:
        try:
            sys.stdout.flush()
            sys.stderr.flush()
        except OSError:  # no one reads any more
            pass
        os._exit(status)

    # To load libraries makes a million objects, none of them in a circle worth looking for.
    gc.set_threshold(50_000, 20, 20)
    atexit.register(leave)  # the first to be registered is the last to be called
    try:
        main(prog_name="beacon")
        status = 0
    except SystemExit as end:
        status = end.code if isinstance(end.code, int) else int(bool(end.code))
        raise


if __name__ == "__main__":
    run()
