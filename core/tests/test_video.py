"""Videos: frames each once at their own times, turned and made square as the file says, with rate and timecode."""

from __future__ import annotations

import itertools
import unittest
from collections.abc import Sequence
from datetime import timedelta
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
import OpenEXR
import OpenImageIO as oiio
from core_support import CoreTest, write_exr
from hypothesis import given
from hypothesis import strategies as st
from patience import trials

from nexal.analysis.run import run_recipe
from nexal.formats.decoded import Limits
from nexal.formats.timecodes import Timecode, timecode_in
from nexal.formats.video import Video, opened
from nexal.recipe import parse_recipe
from nexal.session import Session

HEIGHT, WIDTH = 16, 32
NTSC = Fraction(30000, 1001)


def write_video(
    path: Path,
    times: Sequence[int],
    *,
    base: Fraction = Fraction(1, 24),
    picture: np.ndarray | None = None,
    **more: Any,
) -> Path:
    """Frames at times, in units of `base`; red is the number of each / 64. Written with FFmpeg's libraries directly."""
    with av.open(str(path), "w") as container:
        container.metadata.update(more.get("metadata", {}))
        codec, kind = ("png", "rgb48be") if path.suffix == ".mov" else ("ffv1", "gbrp16le")
        stream = container.add_stream(codec, rate=more.get("rate", 24))
        stream.width, stream.height, stream.pix_fmt = WIDTH, HEIGHT, kind
        stream.time_base = stream.codec_context.time_base = base
        if "shape" in more:
            stream.codec_context.sample_aspect_ratio = more["shape"]
        if "turn" in more:
            stream.set_display_rotation(more["turn"])
        if "matrix" in more:
            stream.set_display_matrix(more["matrix"])
        for number, time in enumerate(times, 1):
            seen = np.full((HEIGHT, WIDTH, 3), round(number / 64 * 65535), np.uint16) if picture is None else picture
            frame = av.VideoFrame.from_ndarray(seen, format="rgb48le")
            frame.pts, frame.time_base = time, base
            for packet in stream.encode(frame):
                container.mux(packet)
        for packet in stream.encode():
            container.mux(packet)
    return path


class VideoTest(CoreTest):
    def setUp(self) -> None:
        self.place = self.folder()

    def rendered(self, spec: dict, frames: range = range(0), file: str = "o.%02d.exr") -> list[Path]:
        recipe = {
            "nexal": 1,
            "sources": {"s": {"colour": "data"} | spec},
            "outputs": {"o": {"from": "s", "file": file}},
        }
        self.told: list[str] = []
        wanted = list(frames) or None
        return run_recipe(parse_recipe(recipe), self.place, {}, self.folder(), frames=wanted, warn=self.told.append)

    def reds(self, spec: dict, frames: range = range(0)) -> list[float]:
        with Session() as session:
            found = []
            for file in self.rendered(spec, frames):
                source = session.open(file)
                plane = source.read(["R"], Fraction(1), source.description.window)["R"]
                found.append(float(plane[0, 0]) * 64)
        return found


class InTime(VideoTest):
    def test_a_video_is_a_source_of_its_frames(self) -> None:
        write_video(self.place / "even.mkv", range(5))
        np.testing.assert_allclose(self.reds({"files": "even.mkv"}), range(1, 6), atol=0.02)
        looped = self.reds({"files": "even.mkv", "after": "loop"}, range(5, 8))
        np.testing.assert_allclose(looped, [5, 1, 2], atol=0.02)
        self.assertEqual(self.told, [])
        (self.place / "bad.mov").write_bytes(b"nothing")
        self.assert_refused(lambda: self.reds({"files": "bad.mov"}, range(1)), "bad.mov", "cannot be read as a video")

    def test_of_a_rate_that_varies_each_frame_is_there_once_at_its_own_time(self) -> None:
        write_video(self.place / "v.mkv", [0, 1, 4, 5])
        np.testing.assert_allclose(self.reds({"files": "v.mkv"}), [1, 2, 2, 2, 3, 4], atol=0.02)
        self.assertEqual(len(self.told), 1)
        self.assertIn(
            "its rate varies; it has 4 frames: they stand at the numbers of their own times, 24 a", self.told[0]
        )
        # What else may stand between two frames is as the recipe says.
        np.testing.assert_allclose(self.reds({"files": "v.mkv", "missing": "black"}), [1, 2, 0, 0, 3, 4], atol=0.02)

    def test_a_telephone_loses_and_doubles_nothing(self) -> None:
        # 60 a second, now and then 30 or 20, times rounded to milliseconds.
        dice = np.random.default_rng(4)
        steps = dice.choice([1, 1, 1, 2, 3], 39)
        times = [round(1000 * at / 60) for at in itertools.accumulate([0, *steps])]
        video = Video(write_video(self.place / "v.mkv", times, base=Fraction(1, 1000)), Limits())
        self.assertEqual(video.info.numbers, tuple(1 + at for at in itertools.accumulate([0, *map(int, steps)])))
        self.assertEqual(video.info.rate, 60)
        seen = [video.frame(number) for number in video.info.numbers]
        reds = [float(each.parts[0].channels["R"][0, 0]) / 65535 * 64 for each in seen]
        np.testing.assert_allclose(reds, range(1, 41), atol=0.02)
        np.testing.assert_allclose([each.metadata["seconds"] for each in seen], [at / 1000 for at in times], atol=1e-6)
        # In any order, too.
        for number in (video.info.numbers[30], 1, video.info.numbers[7]):
            index = video.info.numbers.index(number)
            self.assertAlmostEqual(
                float(video.frame(number).parts[0].channels["R"][0, 0]) / 65535 * 64, index + 1, delta=0.02
            )

    def test_whatever_the_times_are_no_frame_is_lost(self) -> None:
        @trials(12)
        @given(st.lists(st.integers(1, 400), min_size=1, max_size=24))
        def holds(steps: list[int]) -> None:
            times = list(itertools.accumulate([0, *steps]))
            path = write_video(self.place / "any.mkv", times, base=Fraction(1, 1000))
            video = Video(path, Limits())
            numbers = video.info.numbers
            self.assertEqual((len(set(numbers)), list(numbers)), (len(times), sorted(numbers)))
            reds = [float(video.frame(number).parts[0].channels["R"][0, 0]) / 65535 * 64 for number in numbers]
            np.testing.assert_allclose(reds, range(1, len(times) + 1), atol=0.02)

        holds()

    def test_frames_that_lie_too_close_are_counted_one_after_the_other(self) -> None:
        video = Video(write_video(self.place / "v.mkv", [0, 40, 41, 200], base=Fraction(1, 1000)), Limits())
        self.assertEqual(video.info.numbers, (1, 2, 3, 4))
        self.assertIn("one after the other", video.info.warnings[0])

    def test_a_file_that_was_replaced_is_read_anew_by_the_process_that_has_it_open(self) -> None:
        path = write_video(self.place / "v.mkv", range(4))
        self.assertEqual(len(opened(path, Limits()).info.numbers), 4)
        self.assertIs(opened(path, Limits()), opened(path, Limits()))
        write_video(path, range(6))
        self.assertEqual(len(opened(path, Limits()).info.numbers), 6)


class Shape(VideoTest):
    def decoded(self, **more: Any) -> Any:
        picture = np.zeros((HEIGHT, WIDTH, 3), np.uint16)
        picture[:8, :16] = 65535, 30000, 10000
        picture[8:, 16:] = 20000
        self.picture = picture
        return Video(write_video(self.place / "v.mov", [0, 1], picture=picture, **more), Limits()).frame(1)

    def assert_seen(self, decoded: Any, wanted: np.ndarray) -> None:
        channels = decoded.parts[0].channels
        np.testing.assert_array_equal(np.dstack([channels[name] for name in "RGB"]), wanted)

    def test_it_is_turned_and_mirrored_as_the_file_says(self) -> None:
        # The angle counts against the clock.
        for turn, quarters in ((90, 1), (180, 2), (270, 3), (-90, 3)):
            with self.subTest(turn):
                decoded = self.decoded(turn=turn)
                self.assert_seen(decoded, np.rot90(self.picture, quarters))
                window = decoded.parts[0].display
                self.assertEqual((window.width, window.height), (HEIGHT, WIDTH) if quarters % 2 else (WIDTH, HEIGHT))
                self.assertIn("turned as the file says", decoded.warnings[0])
        self.assert_seen(self.decoded(turn=0), self.picture)
        self.assert_seen(self.decoded(matrix=[-65536, 0, 0, 0, 65536, 0, 0, 0, 1 << 30]), self.picture[:, ::-1])
        oblique = self.decoded(turn=30)
        self.assert_seen(oblique, self.picture)
        self.assertIn("by no quarter", oblique.warnings[0])

    def test_its_pixels_are_made_square(self) -> None:
        for shape, size in ((Fraction(3, 2), (48, 16)), (Fraction(1, 2), (32, 32))):
            with self.subTest(shape):
                decoded = self.decoded(shape=shape)
                window = decoded.parts[0].display
                self.assertEqual((window.width, window.height), size)
                self.assertIn("were made square", decoded.warnings[0])
                # Away from its edges it is the same picture.
                red = decoded.parts[0].channels["R"].astype(float)
                self.assertAlmostEqual(red[size[1] // 4, size[0] // 4], 65535, delta=200)
                self.assertAlmostEqual(red[3 * size[1] // 4, 3 * size[0] // 4], 20000, delta=200)
        decoded = self.decoded(shape=Fraction(9))
        self.assert_seen(decoded, self.picture)
        self.assertIn("not believed", decoded.warnings[0])


class Travelling(VideoTest):
    def test_rate_and_timecode_travel_into_what_is_delivered(self) -> None:
        for codec, base, code, wanted in (
            ("01:00:59:28", 1 / NTSC, "01:01:00:02", 3),
            ("01:00:59;28", 1 / NTSC, "01:01:00;04", 3),
            ("23:59:59:24", Fraction(1, 25), "00:00:00:01", 3),
        ):
            with self.subTest(codec):
                rate = 1 / base
                times = range(wanted + 2)
                write_video(self.place / "v.mov", times, base=base, rate=rate, metadata={"timecode": codec})
                spec = {"files": "v.mov"}
                (exr,) = self.rendered(spec, range(wanted + 2, wanted + 3))
                header = OpenEXR.File(str(exr)).header()
                given = timecode_in(codec)
                assert given
                later = given.after(wanted + 1, Fraction(rate))
                self.assertEqual(header["framesPerSecond"], rate)
                found = header["timeCode"]
                self.assertEqual((found.hours, found.minutes, found.seconds, found.frame, bool(found.dropFrame)),
                                 (later.hours, later.minutes, later.seconds, later.frames, later.drops))  # fmt: skip
                # A file that was delivered so hands it on in its turn; into other formats, too.
                (again,) = self.rendered({"files": str(exr)}, range(1, 2), "o.exr")
                self.assertEqual(str(OpenEXR.File(str(again)).header()["timeCode"]), str(found))
                (dpx,) = self.rendered({"files": str(exr)}, range(1, 2), "o.dpx")
                spec = oiio.ImageInput.open(str(dpx)).spec()
                self.assertAlmostEqual(spec.getattribute("dpx:FrameRate"), float(rate), places=3)
                self.assertEqual(spec.getattribute("dpx:TimeCode"), str(later).replace(";", ":"))
                (png,) = self.rendered({"files": str(exr)}, range(1, 2), "o.png")
                text = oiio.ImageInput.open(str(png)).spec().getattribute("ImageDescription")
                self.assertIn(f'"timeCode":"{later}"', text)
                self.assertIn(f'"framesPerSecond":"{rate.numerator}/{rate.denominator}"', text)
                self.assertEqual(code, str(given.after(4 if ";" in codec or ":28" in codec else 2, Fraction(rate))))

    def test_what_no_header_can_hold_is_left_out_and_delivered_all_the_same(self) -> None:
        for rate, code in ((100, "01:00:00:98"), (24, "01:00:00:98")):
            with self.subTest(rate):
                name = f"v{rate}.mov"
                given = {"timecode": code}
                write_video(self.place / name, range(2), base=Fraction(1, rate), rate=rate, metadata=given)
                (exr,) = self.rendered({"files": name}, range(1, 2), "o.exr")
                header = OpenEXR.File(str(exr)).header()
                self.assertEqual(header["framesPerSecond"], rate)
                frames = header["timeCode"].frame if "timeCode" in header else None
                self.assertEqual(frames, {100: None, 24: 2}[rate])

    def test_header_values_of_before_are_as_they_were(self) -> None:
        write_exr(self.place / "plain.exr", {name: np.ones((4, 4), np.float16) for name in "RGB"})
        (exr,) = self.rendered({"files": "plain.exr"}, range(1, 2), "o.exr")
        self.assertNotIn("timeCode", OpenEXR.File(str(exr)).header())


class Timecodes(unittest.TestCase):
    def test_what_is_none_is_none(self) -> None:
        for text in ("", "01:00:00", "24:00:00:00", "01:60:00:00", "x", None):
            self.assertIsNone(timecode_in(text))

    def test_each_frame_of_a_day_has_one_and_the_clock_is_kept(self) -> None:
        start = Timecode(0, 0, 0, 0, True)
        for rate, dropped in ((NTSC, 2), (2 * NTSC, 4)):
            a_second = round(rate)
            code = start
            seen = set()
            for _ in range(a_second * 60 * 11):
                seen.add(code)
                following = code.after(1, rate)
                if code.seconds == 59 and code.frames == a_second - 1 and (code.minutes + 1) % 10:
                    self.assertEqual((following.seconds, following.frames), (0, dropped))
                else:
                    self.assertIn(following.frames, (code.frames + 1, 0))
                code = following
            self.assertEqual(len(seen), a_second * 60 * 11, "each once")
            # After an hour by the clock it is an hour, to a frame.
            hour = start.after(round(3600 * rate), rate)
            self.assertEqual(str(hour)[:8], "01:00:00")
            self.assertLess(hour.frames, 5)
        self.assertEqual(str(Timecode(23, 59, 59, 23).after(1, Fraction(24))), "00:00:00:00")
        self.assertEqual(str(Timecode(1, 0, 0, 0).after(25 * 3661, Fraction(25))), "02:01:01:00")

    def test_it_counts_as_a_clock_does_where_nothing_is_dropped(self) -> None:
        @trials(60)
        @given(st.integers(0, 86_399), st.integers(0, 23), st.integers(-10_000, 10_000_000))
        def holds(second: int, frame: int, later: int) -> None:
            code = Timecode(second // 3600, second // 60 % 60, second % 60, frame).after(later, Fraction(24))
            seconds, frames = divmod(second * 24 + frame + later, 24)
            clock = timedelta(seconds=seconds % 86_400)
            told = timedelta(hours=code.hours, minutes=code.minutes, seconds=code.seconds)
            self.assertEqual((told, code.frames), (clock, frames))

        holds()
