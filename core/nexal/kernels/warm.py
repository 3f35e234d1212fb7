"""Compiling and loading of the kernels, ahead of their first use."""

from __future__ import annotations

import numpy as np

from nexal.picture import Plane


def warm() -> None:
    """Run every compiled kernel once on a few pixels; first what the first drags need, last what has a bench of its
    own."""
    from nexal.kernels.clouds import clouds
    from nexal.kernels.coverage import feathered_coverage, flatten
    from nexal.kernels.discs import LARGE
    from nexal.kernels.halves import prepare
    from nexal.kernels.lookup import looked_up
    from nexal.kernels.matting import closed_form
    from nexal.kernels.morphology import grow
    from nexal.kernels.nearest import carried
    from nexal.kernels.pointmath import encode
    from nexal.kernels.ranking import MODES, SINGLE, crossed, quality, rank
    from nexal.kernels.recording import Recording
    from nexal.kernels.strokes import lay, stroke_coverage
    from nexal.kernels.warping import FILTER_SUPPORT, resample

    pixels = np.full((4, 4), 0.5, np.float32)
    recording = Recording()
    recording.program([encode(recording.input("pixels"))]).run({"pixels": pixels}, [pixels.copy()], (0.0, 0.0, 1.0))
    prepare()
    for bits, values in ((np.uint8, np.float32), (np.uint16, np.float32), (np.uint16, np.uint8)):
        looked_up(np.zeros(np.iinfo(bits).max + 1, values), np.zeros((2, 2), bits))
    for kind in FILTER_SUPPORT:
        for turn in (0.0, 0.5):
            for overshoot in (False, True):
                resample(pixels, (2, 2), (0.5, 0.5), (1.0, turn, -turn, 1.0), kind, overshoot)
    codes = np.array([[0, 1, mode, 0, 1] for mode in range(SINGLE, len(MODES))], np.int32)
    rank(pixels, pixels, codes)
    quality(crossed(pixels, codes[0]).reshape(2, 2), np.ones((2, 2), np.bool_), 0.0, 1.0)
    carried([pixels], np.eye(4, dtype=np.bool_), 2.0, 0.0)
    grow(pixels, 1.5, round_element=True)
    grow(pixels, LARGE, round_element=True)
    clouds((2, 2), (0.5, 0.5), 1.0, 8.0, 1, 1)
    lay(pixels.copy(), stroke_coverage((4, 4), np.ones((2, 3), np.float32), 2.0, 0.5, (0.0, 0.0)), 1.0, 1.0)
    square = np.zeros((4, 8))
    square[:, :2] = [(0, 0), (3, 0), (3, 3), (0, 3)]
    square[:, 6:] = 1
    feathered_coverage((4, 4), flatten(square))
    ramp = np.tile(np.linspace(0, 1, 9, dtype=np.float32), (5, 1))
    trimap = np.where(ramp < 0.3, 0, np.where(ramp > 0.7, 1, 0.5)).astype(np.float32)
    closed_form(np.stack([ramp] * 3, axis=-1).astype(np.float64), trimap, lambda done: None)
    warm_mattes()
    warm_textures(pixels)
    warm_space()


def warm_space() -> None:
    """The kernels that work by depth, position and ids, run once on a few pixels."""
    from nexal.kernels.defocusing import defocused
    from nexal.kernels.depths import averaged_share, grown, parted, sliced
    from nexal.kernels.iris import Iris
    from nexal.kernels.picking import number_cover, ranked_cover
    from nexal.kernels.relighting import lit, openness, shadowed
    from nexal.kernels.space import clouds_in_space, low_fog

    plane = np.tile(np.linspace(1, 9, 16, dtype=np.float32), (16, 1))
    circles = np.where(plane > 5, np.float32(40), np.float32(-6))
    for opaque in (True, False):
        defocused([plane] * 3 + [np.ones_like(plane)], circles, 41.0, 0, Iris(), opaque=opaque)
    averaged_share(plane)
    parted(plane, 0.05)
    sliced(plane, (1, 2, 3, 4), smooth=True)
    grown(plane, np.ascontiguousarray(plane[1:-1, 1:-1]))
    there, camera = np.ones(plane.shape, np.bool_), np.eye(4)[:3] + 0.1
    places = [plane] * 3
    low_fog(places, np.zeros(3), 0.1, 0.0, 1.0)
    clouds_in_space(places, there, 1.0, 1, 1, (0, 0, 0))
    lit(places, places, there, point=True, light=(0, 0, 0), size=1.0, reach=0.0, wrap=0.0)
    shadowed(
        places, places, there, plane, camera, point=True, light=(0, 0, 0), length=1.0, thickness=1.0, corner=(0, 0),
        scale=1.0,
    )  # fmt: skip
    openness(places, places, there, plane, np.zeros(3), np.ones(3), np.ones(3), 9.0, 1.0)
    wanted = np.array([1.0])
    number_cover(plane, wanted)
    ranked_cover([(plane, plane)], wanted)


def warm_mattes() -> None:
    """The kernels of whole mattes, run once on a square before a screen."""
    from nexal.kernels.solving import solve

    shot = np.full((3, 48, 48), 0.1, np.float32)
    shot[1] = 0.4
    shot[:, 12:36, 12:36] = np.linspace(0.2, 0.5, 24, dtype=np.float32)
    solve(shot, "green", shot[:, :1, :1] + 0 * shot, lambda done: None)


def warm_textures(pixels: Plane) -> None:
    """The kernels of the Packing bench, run once on a plane of at least 4 x 4 pixels."""
    from nexal.kernels.blocks import packed_rows
    from nexal.kernels.proving import measured
    from nexal.kernels.quantising import codes
    from nexal.kernels.rasterising import surface
    from nexal.kernels.resizing import resized, taps
    from nexal.kernels.shading import AreaLight, Material, Surroundings, shade
    from nexal.kernels.wrapping import finished, sampled

    for rows in (taps(0, 8, 0.5, (0, 4), "auto"), taps(0, 3, 1.3, (0, 4), "auto")):
        resized(pixels, 0, 0, rows, taps(0, 3, 1.3, (0, 4), "auto"))
        resized(pixels, 0, 0, rows, taps(0, 3, 0.3, (0, 4), "auto"), overshoot=False)
    for count in (1, 3):
        packed_rows(np.stack([pixels] * count), 0, 4, np.empty((count, 4, 4), np.float32))
    for most in (255, 65535):
        measured(pixels, codes(pixels, most, "diffusion" if most == 255 else "none"), most)
    measured(pixels, pixels, 0)
    seen = surface("tin", 0.0, 0.0, 16)
    parts = sampled([pixels] * 5, seen)
    light = AreaLight((0.0, 0.0, 4.0), 1.0, 1.0, (1.0, 1.0, 1.0), 1, 1)
    grey = (1.0, 1.0, 1.0)
    shown = shade(seen, seen.normals, Material(parts[:1] * 3, *parts[1:]), [light], Surroundings(grey, grey))
    finished(shown, seen, 0.1, lambda values: values)


if __name__ == "__main__":
    warm()
