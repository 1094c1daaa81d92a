"""Work on one file by two cores comes to the same as by one."""

import tempfile
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from pathlib import Path
from unittest import TestCase

import numpy as np

from mastering.audio.beside import Ahead, Behind
from mastering.audio.reader import Reader
from mastering.making.job import Order
from mastering.meters.meter import Meter
from mastering.outlets.rulesheets import shipped
from mastering.pipeline import make, make_all
from mastering.tests.signals import noise, speech, written

OUTLETS = ("volunteer-archive", "podcast-host", "own-masters", "single-file-audiobook")


def _threads() -> int:
    return threading.active_count()


class MadeReady(TestCase):
    def test_items_come_in_order_and_no_more_than_a_few_ahead(self):
        begun = []

        def items():
            for item in range(50):
                begun.append(item)
                yield item

        taken = []
        for item in (ahead := Ahead(items())):
            taken.append(item)
            time.sleep(0.001)
            self.assertLess(len(begun) - len(taken), 8)
        ahead.close()
        self.assertEqual(taken, list(range(50)))

    def test_what_goes_wrong_goes_wrong_where_it_is_taken_and_the_thread_ends(self):
        def items():
            yield 1
            raise ValueError("broken")

        before, taken = _threads(), []
        ahead = Ahead(items())
        with self.assertRaisesRegex(ValueError, "broken"):
            for item in ahead:
                taken.append(item)
        ahead.close()
        self.assertEqual((taken, _threads()), ([1], before))

    def test_it_ends_where_nobody_goes_on(self):
        before = _threads()
        for ahead in (Ahead(iter(range(1000))), Ahead(iter(()))):
            next(iter(ahead), None)
            ahead.close()
        with tempfile.TemporaryDirectory() as folder:
            path = written(Path(folder), noise(-30, 60), 44100, "long.wav", "PCM_16")
            with Reader(path) as reader:
                next(reader.blocks())
        self.assertEqual(_threads(), before)


class PutAway(TestCase):
    def test_all_is_done_in_order_before_it_is_finished(self):
        done: list[int] = []
        behind = Behind(lambda item: (time.sleep(0.001), done.append(item)))
        for item in range(30):
            behind.put(item)
        behind.finish()
        behind.close()
        self.assertEqual(done, list(range(30)))

    def test_what_goes_wrong_is_told_soon_and_the_rest_is_left(self):
        def fails(item: int) -> None:
            if item == 2:
                raise OSError("disk full")

        before = _threads()
        behind = Behind(fails)
        with self.assertRaisesRegex(OSError, "disk full"):
            for item in range(1000):
                behind.put(item)
        behind.close()
        self.assertEqual(_threads(), before)


class Metered(TestCase):
    def test_half_of_the_measuring_done_aside_finds_the_same(self):
        for channels in (("FC",), ("FL", "FR")):
            sound = np.repeat(speech(seconds=9, peak=0.3)[: 9 * 44100 - 777], len(channels), axis=1)
            found = []
            with closing(Behind(lambda work: work())) as aside:
                for meter in (Meter(44100, channels), Meter(44100, channels, aside=aside)):
                    for start in range(0, len(sound), 50000):
                        meter.add(sound[start : start + 50000])
                    found.append(vars(meter.levels()))
            envelopes = [vars(each.pop("envelope")) for each in found]
            arrays = [[each.pop("steps"), *envelope.values()] for each, envelope in zip(found, envelopes, strict=True)]
            self.assertEqual(found[0], found[1])
            self.assertTrue(all(np.array_equal(*pair) for pair in zip(*arrays, strict=True)))


class SameBytes(TestCase):
    def test_files_are_the_same_whatever_is_made_beside_them(self):
        take = np.concatenate([noise(-66, 0.6), speech(seconds=8, peak=0.3), noise(-66, 1.2)])
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            path = written(folder, take, 44100, "take.wav", "PCM_24")
            known = shipped()

            def alone(key: str, turn: int) -> bytes:
                made = make(path, known[key], folder / f"{key} {turn}.{known[key].encodings()[0].extension}")
                return made.path.read_bytes()

            first = {key: alone(key, 0) for key in OUTLETS}
            with ThreadPoolExecutor(4) as pool:
                again = dict(zip(OUTLETS, pool.map(lambda key: alone(key, 1), OUTLETS), strict=True))
            orders = [
                Order(outlet=known[key], target=folder / f"{key} 2.{known[key].encodings()[0].extension}")
                for key in reversed(OUTLETS)
            ]
            made_all = make_all(path, orders)
            together = {key: made.path.read_bytes() for key, made in zip(reversed(OUTLETS), made_all, strict=True)}
        for key in OUTLETS:
            self.assertEqual(first[key], again[key], key)
            self.assertEqual(first[key], together[key], key)
