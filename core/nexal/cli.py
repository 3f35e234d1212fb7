"""The `nexal` command: the same calculations without server or database."""

from __future__ import annotations

import argparse
import gc
import json
import re
import sys
from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any, NoReturn

import nexal
from nexal.errors import NexalError

DONE, FAILED, BAD_INPUT, INTERNAL = 0, 1, 2, 3
GARBAGE_AFTER = 20_000
"""Objects made until it is looked for garbage."""


class UsageError(NexalError):
    """Wrong usage of the command."""

    code = "usage"


class Parser(argparse.ArgumentParser):
    """Says what is wrong in the one form of every message."""

    def error(self, message: str) -> NoReturn:
        raise UsageError(message, where="command line", remedy=f"see '{self.prog} --help'")


def _say(text: str) -> None:
    print(f"nexal: {text}", file=sys.stderr)


def _answer(data: Any) -> None:
    print(json.dumps(data, indent=1, allow_nan=False))


def _operations(options: argparse.Namespace) -> int:
    from nexal.analysis.describe import operation_rows

    rows = operation_rows()
    if options.json:
        _answer(rows)
        return DONE
    for row in rows:
        ports = ", ".join(port["name"] + ("" if port["required"] else "?") for port in row["ports"])
        print(f"{row['op']:16} {row['family']:10} ({ports})  {row['text'].splitlines()[0]}")
    return DONE


def _info(options: argparse.Namespace) -> int:
    from nexal.analysis.describe import file_row
    from nexal.session import Session

    with Session(warn=_warn) as session:
        row = file_row(options.file, session.open(Path(options.file)).stored)
    if options.json:
        _answer(row)
        return DONE
    print(f"{row['file']}: {row['format']}, alpha {row['alpha']}")
    for part in row["parts"]:
        x, y, width, height = part["data_window"]
        print(
            f"  part {part['name'] or '(unnamed)'}: display {part['display_window']}, "
            f"data {width} x {height} at {x}, {y}, {part['compression'] or 'not compressed'}"
        )
        types = {channel["name"]: channel for channel in part["channels"]}
        for layer in part["layers"]:
            print(f"    {layer['name'] or '(picture)'}: {layer['role']} ({layer['reason']})")
            for name in layer["channels"]:
                channel = types[name]
                print(f"      {name:32} {channel['type']:7} {channel['min']:.6g} to {channel['max']:.6g}")
    return DONE


def _warn(text: str) -> None:
    _say(f"warning: {text}")


def _frames(text: str) -> list[int]:
    match = re.fullmatch(r"(-?\d+)(?:-(-?\d+))?", text)
    if not match or int(match[2] or match[1]) < int(match[1]):
        raise UsageError(f"'{text}' is not a frame range", where="--frames", remedy="write A-B, for example 1-24")
    return list(range(int(match[1]), int(match[2] or match[1]) + 1))


def _window(text: str, where: str) -> Any:
    from nexal.picture import Window

    try:
        x, y, width, height = (int(part) for part in text.split(","))
        if width <= 0 or height <= 0:
            raise ValueError
    except ValueError:
        raise UsageError(f"'{text}' is not a region", where=where, remedy="write x,y,width,height in pixels") from None
    return Window(x, y, width, height)


def _count(text: str) -> int:
    try:
        count = int(text)
        if not 1 <= count <= 1000:
            raise ValueError
    except ValueError:
        raise UsageError(f"'{text}' is not a number of rows", where="--rows", remedy="use 1 to 1000") from None
    return count


def _scale(text: str) -> Fraction:
    try:
        scale = Fraction(text)
    except (ValueError, ZeroDivisionError):
        scale = Fraction(0)
    if scale not in (Fraction(1), Fraction(1, 2), Fraction(1, 4), Fraction(1, 8)):
        raise UsageError(f"'{text}' is not a scale", where="--scale", remedy="use 1, 1/2, 1/4 or 1/8")
    return scale


def _sources(pairs: Sequence[str]) -> dict[str, str]:
    files = {}
    for pair in pairs:
        name, equals, path = pair.partition("=")
        if not equals or not name or not path:
            raise UsageError(f"'{pair}' is not a source", where="--source", remedy="write NAME=PATH")
        files[name] = path
    return files


def _run(options: argparse.Namespace) -> int:
    from nexal.analysis.run import run_recipe
    from nexal.recipe import load_recipe

    path = Path(options.recipe)
    written = run_recipe(
        load_recipe(path),
        path.parent,
        _sources(options.source),
        Path(options.out),
        frames=_frames(options.frames) if options.frames else None,
        scale=_scale(options.scale),
        region=_window(options.region, "--region") if options.region else None,
        only=options.only,
        shot=path.stem,
        workers=options.workers,
        scheduler=options.scheduler,
        resume=options.resume,
        warn=_warn,
    )
    return _written(written, options)


def _workers(text: str) -> int:
    if not text.isdecimal() or not 1 <= int(text) <= 256:
        raise UsageError(f"'{text}' is not a number of workers", where="--workers", remedy="use 1 to 256")
    return int(text)


def _follow(options: argparse.Namespace) -> int:
    from nexal.analysis.run import follow_file

    frames = _frames(options.frames)
    start = None if options.start is None else _frames(options.start)[0]
    region = _window(options.region, "--region")
    answer = follow_file(options.file, region, frames, start, options.model, search=options.search, warn=_warn)
    if options.json:
        _answer(answer)
        return DONE
    for row in answer["frames"]:
        numbers = " ".join(f"{number:.6g}" for number in row["matrix"])
        print(f"{row['frame']:6}  sure {row['sure']:.2f}  {len(row['points']):4} points  {numbers}")
    if answer["lost"]:
        print(f"lost at {', '.join(str(frame) for frame in answer['lost'])}")
    return DONE


def _steady(options: argparse.Namespace) -> int:
    from nexal.analysis.run import steady_recipe
    from nexal.recipe import load_recipe

    path = Path(options.recipe)
    frames = _frames(options.frames) if options.frames else None
    answer = steady_recipe(load_recipe(path), path.parent, _sources(options.source), options.only, frames, warn=_warn)
    if options.json:
        _answer(answer)
        return DONE
    for row in answer["frames"]:
        figures = "  ".join(f"{name} {_figure(row[name])}" for name in ("coverage", "change", "flicker", "judged"))
        print(f"{row['frame']:6}  {figures}  {(row['verdict'] or '').replace('_', ' ')}".rstrip())
    print(f"{answer['verdict'].replace('_', ' ')}; mean change {answer['mean_change']:.5f}")
    return DONE


def _figure(value: float | None) -> str:
    return "      -" if value is None else f"{value:7.5f}"


def _depth(options: argparse.Namespace) -> int:
    from nexal.analysis.run import depth_file

    answer = depth_file(Path(options.file), options.layer, warn=_warn)
    if options.json:
        _answer(answer)
        return DONE
    for row in answer:
        print("\n  ".join(row["sentences"]))
    return DONE


def _written(files: Sequence[Path], options: argparse.Namespace) -> int:
    if options.json:
        _answer({"written": [str(file) for file in files]})
    else:
        for file in files:
            print(file)
    return DONE


def _scout(options: argparse.Namespace) -> int:
    from nexal.analysis.run import scout_file

    sides = {
        side: [_window(text, f"--{side}") for text in getattr(options, side)] for side in ("subject", "background")
    }
    answer = scout_file(Path(options.file), **sides, ink=options.ink, rows=options.rows, warn=_warn)
    if options.json:
        _answer(answer)
        return DONE
    print(f"{answer['tried']} tried")
    for row in answer["rows"]:
        posts = row["stretch"]
        print(
            f"{row['separation']:.4f}  fisher {row['fisher']:9.3g}  edges kept {row['edge_kept']:.2f}  "
            f"noise {row['noise']:.4f}  {row['words']}; black {posts['black']:.4g}, white {posts['white']:.4g}"
        )
    return DONE


def _audit(options: argparse.Namespace) -> int:
    from nexal.analysis.run import audit_file

    answer = audit_file(Path(options.file), options.full, warn=_warn)
    if options.json:
        _answer(answer)
        return DONE
    if not answer["claimed"]:
        print(f"no set of layers adds up to {answer['full']}: {answer['explained']:.1%} of it is explained at best")
    for part in answer["parts"]:
        times = f" x {part['times']}" if "times" in part else ""
        print(f"{part['coefficient']:8.4f}  {part['layer']}{times}")
    for entry in answer["sums"]:
        print(f"          {entry['layer']} is {' + '.join(entry['of'])}")
    figures = answer["residual"]
    psnr = "equal" if figures["psnr"] is None else f"{figures['psnr']:.1f} dB"
    print(f"residual  mean {figures['mean']:.3g}  p99 {figures['p99']:.3g}  largest {figures['max']:.3g}  {psnr}")
    if answer["place"]:
        x, y, width, height = answer["place"]
        print(f"          what no pass holds lies in {width} x {height} pixels at {x}, {y}")
    return DONE


def _diagnose(options: argparse.Namespace) -> int:
    from nexal.analysis.run import diagnose_file

    answer = diagnose_file(Path(options.file), Path(options.alpha) if options.alpha else None, warn=_warn)
    if options.json:
        _answer(answer)
        return DONE
    mixed = {"scene": " in linear light", "display": " in encoded values", None: ""}[answer["domain"]]
    backing = ", ".join(f"{value:.4f}" for value in answer["backing"])
    with_ = f" with {backing}" if answer["verdict"] == "matted" else ""
    print(f"{answer['verdict'].replace('_', ' ')}{with_}{mixed}; confidence {answer['confidence']:.2f}")
    print(f"the file says: {answer['claims']}")
    for domain in ("scene", "display"):
        if domain in answer["figures"]:
            row = answer["figures"][domain]
            shown = "  ".join(f"{b:.4f} +- {s / 2:.4f}" for b, s in zip(row["backing"], row["spread"], strict=True))
            print(f"{domain:8} backing {shown}")
    return DONE


def _split(options: argparse.Namespace) -> int:
    from nexal.analysis.run import split_file

    return _written(split_file(Path(options.file), Path(options.out), warn=_warn), options)


def _reassemble(options: argparse.Namespace) -> int:
    from nexal.analysis.run import reassemble_files

    written, told = reassemble_files(Path(options.manifest), Path(options.out), warn=_warn)
    if options.json:
        _answer({"written": [str(written)], "told": told})
        return DONE
    for text in told:
        _warn(text)
    print(written)
    return DONE


def _compare(options: argparse.Namespace) -> int:
    from nexal.analysis.compare import exceeds
    from nexal.analysis.run import compare_files

    rows = compare_files(Path(options.a), Path(options.b), warn=_warn)
    if options.json:
        _answer({"channels": rows})
    else:
        for name, row in rows.items():
            largest = "not finite" if row["max"] is None else f"{row['max']:.9g}"
            psnr = "equal" if row["psnr"] is None else f"{row['psnr']:.2f} dB"
            print(f"{name:24} largest {largest}  mean {row['mean'] or 0:.9g}  {psnr}")
    if options.tolerance is None:
        return DONE
    beyond = exceeds(rows, options.tolerance)
    if beyond:
        _say(
            f"{options.b}: differs by more than {options.tolerance:g} in {', '.join(beyond)}; look at the figures above"
        )
    return FAILED if beyond else DONE


def _parser() -> Parser:
    parser = Parser(prog="nexal", description="Mattes, passes, edges and packing from the command line.")
    parser.add_argument("--version", action="version", version=nexal.__version__)
    commands = parser.add_subparsers(dest="command", required=True, metavar="COMMAND")

    info = commands.add_parser("info", help="parts, layers, channels, windows, types, roles and ranges of a file")
    info.add_argument("file")
    info.set_defaults(run=_info)

    run = commands.add_parser("run", help="run a recipe and write its outputs")
    run.add_argument("recipe")
    run.add_argument("--source", action="append", default=[], metavar="NAME=PATH")
    run.add_argument("--frames", metavar="A-B")
    run.add_argument("--scale", default="1", metavar="1/2")
    run.add_argument("--region", metavar="x,y,w,h")
    run.add_argument("--only", action="append", default=[], metavar="NAME", help="an output to write; repeatable")
    run.add_argument("--out", required=True, metavar="DIR")
    run.add_argument("--workers", type=_workers, default=1, metavar="N", help="processes that frames are spread over")
    run.add_argument("--scheduler", default="", metavar="tcp://HOST:PORT", help="a Dask scheduler to spread them over")
    run.add_argument("--resume", action="store_true", help="leave files that are there and whole")
    run.set_defaults(run=_run)

    follow = commands.add_parser("follow", help="where what a region holds lies at the frames of a range")
    follow.add_argument("file", metavar="SOURCE", help="a numbered pattern")
    follow.add_argument("--region", required=True, metavar="x,y,w,h", help="at the start")
    follow.add_argument("--frames", required=True, metavar="A-B")
    follow.add_argument("--start", metavar="F", help="the frame of the region; by default the first")
    follow.add_argument("--model", default="similarity", choices=("shift", "similarity", "affine", "perspective"))
    follow.add_argument("--search", action="store_true", help="look again in the whole picture where it is lost")
    follow.set_defaults(run=_follow)

    steady = commands.add_parser("steady", help="how a matte changes over time beyond what its picture does")
    steady.add_argument("recipe")
    steady.add_argument("--only", required=True, metavar="STEP")
    steady.add_argument("--source", action="append", default=[], metavar="NAME=PATH")
    steady.add_argument("--frames", metavar="A-B")
    steady.set_defaults(run=_steady)

    compare = commands.add_parser("compare", help="largest and mean difference and PSNR of each channel of two files")
    compare.add_argument("a")
    compare.add_argument("b")
    compare.add_argument("--tolerance", type=float, metavar="T", help="exit 1 where a largest difference is above")
    compare.set_defaults(run=_compare)

    scout = commands.add_parser("scout", help="rank crossings of channels by how well they part subject and background")
    scout.add_argument("file", help="a picture")
    for side in ("subject", "background"):
        scout.add_argument(f"--{side}", action="append", required=True, metavar="x,y,w,h", help="marked; repeatable")
    scout.add_argument("--ink", action="store_true", help="try the ink separations too")
    scout.add_argument("--rows", type=_count, default=48, metavar="N", help="how many of the best to answer")
    scout.set_defaults(run=_scout)

    audit = commands.add_parser("audit", help="which layers of a render add up to its full picture")
    audit.add_argument("file", help="a multi-channel picture")
    audit.add_argument(
        "--full", required=True, metavar="LAYER", help="the full picture; without a layer name it is RGB"
    )
    audit.set_defaults(run=_audit)

    diagnose = commands.add_parser("diagnose", help="straight, premultiplied or matted with a colour: what a file is")
    diagnose.add_argument("file", help="a picture")
    diagnose.add_argument("--alpha", metavar="FILE", help="its alpha, where that is a file of its own")
    diagnose.set_defaults(run=_diagnose)

    depth = commands.add_parser("depth", help="what a depth pass holds: kind, direction, range, edges, camera")
    depth.add_argument("file", help="a picture")
    depth.add_argument("--layer", metavar="L", help="its layer or channel; else all that are depth")
    depth.set_defaults(run=_depth)

    split = commands.add_parser("split", help="each channel of a picture as a file of its own, beside a manifest")
    split.add_argument("file", help="a picture")
    split.add_argument("--out", required=True, metavar="DIR")
    split.set_defaults(run=_split)

    reassemble = commands.add_parser("reassemble", help="one picture from the files that a manifest lists")
    reassemble.add_argument("manifest", help="the .channels.json beside the files")
    reassemble.add_argument("--out", required=True, metavar="DIR")
    reassemble.set_defaults(run=_reassemble)

    operations = commands.add_parser("operations", help="every operation with its ports and settings")
    operations.set_defaults(run=_operations)
    for command in (info, run, follow, steady, scout, diagnose, audit, compare, depth, split, reassemble, operations):
        command.add_argument("--json", action="store_true", help="answer as JSON")
    return parser


def main(arguments: Sequence[str] | None = None) -> int:
    """Run a command; returns its exit code."""
    # What is imported stays: looked through for garbage again and again, it takes a tenth of a command's start.
    gc.set_threshold(GARBAGE_AFTER)
    try:
        options = _parser().parse_args(arguments)
        if options.run is not _operations:
            from nexal.formats.workers import begin

            begin()
        return int(options.run(options))
    except NexalError as error:
        for each in (error, *error.also):
            _say(str(each).replace("\n", " "))
        return BAD_INPUT
    except BrokenPipeError:
        return DONE
    except KeyboardInterrupt:
        _say("stopped; nothing half-written was left")
        return BAD_INPUT
    except OSError as error:
        _say(f"{error.filename or 'system'}: {error.strerror or error}; check the path, its rights and the space left")
        return BAD_INPUT
    except Exception as error:
        _say(f"internal: {type(error).__name__}: {error}; please report this with the recipe")
        return INTERNAL


if __name__ == "__main__":
    sys.exit(main())
