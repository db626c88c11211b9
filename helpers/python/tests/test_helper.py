"""No value harms the service, secrets stay in it, and what is sent is within its limits."""

import itertools
import json
import sys
import time
import unittest
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))
import outcrop_helper  # noqa: E402
from outcrop_helper import Limits, frames_of  # noqa: E402


class Hostile:
    """Fails, sleeps or counts when it is looked at."""

    looked = 0

    def __init__(self):
        self.metres = 12
        self.password = "low tide"

    def __repr__(self):
        Hostile.looked += 1
        time.sleep(5)
        raise RuntimeError("no")

    __str__ = __hash__ = __len__ = __bool__ = __iter__ = __repr__
    __eq__ = lambda self, other: self.__repr__()  # noqa: E731

    @property
    def total(self):
        return self.__repr__()

    def __getattribute__(self, name):
        Hostile.looked += 1
        raise RuntimeError(name)


def counting(counted):
    for number in itertools.count():
        counted.append(number)
        yield number


def fail(value):
    api_token = "-".join(["outcrop", "key", "1"])  # noqa: F841
    sailing = value  # noqa: F841
    raise ValueError("no tariff")


def frames(value, limits=Limits()):
    try:
        fail(value)
    except ValueError as error:
        return json.loads(frames_of(error, limits))


class Frames(unittest.TestCase):
    def said(self, value):
        return frames(value)[0]["variables"]["sailing"]

    def test_own_frames_come_innermost_first_with_source(self):
        found = frames(2)
        self.assertEqual([frame["function"] for frame in found], ["fail", "frames"])
        source = found[0]["source"]
        self.assertIn('raise ValueError("no tariff")', source["lines"][found[0]["line"] - source["first"]])

    def test_secrets_stay(self):
        found = json.dumps(frames({"user": 7, "session_id": "s-1", "deep": {"Authorization": "Bearer x"}}))
        self.assertNotIn("outcrop-key-1", found)
        self.assertNotIn("s-1", found)
        self.assertNotIn("Bearer x", found)
        self.assertIn("'user': 7", found)

    def test_no_value_is_asked_to_describe_itself(self):
        value = Hostile()
        Hostile.looked = 0
        began = time.perf_counter()
        said = self.said([value])
        self.assertEqual(Hostile.looked, 0)
        self.assertLess(time.perf_counter() - began, 1)
        self.assertIn("metres=12", said)
        self.assertNotIn("low tide", said)

    def test_cycles_huge_values_and_generators(self):
        ring = []
        ring.append(ring)
        self.assertEqual(self.said(ring), "[<list>]")
        self.assertTrue(self.said("x" * 10_000_000).endswith("…"))
        self.assertTrue(len(self.said(list(range(1_000_000)))) < 210)
        self.assertEqual(self.said(10**100_000), "an int of 332193 bits")
        counted = []
        self.assertIn("generator", self.said(counting(counted)))
        self.assertEqual(counted, [])

    def test_limits_hold(self):
        def deep(n):
            return fail(n) if n == 0 else deep(n - 1)

        try:
            deep(40)
        except ValueError as error:
            self.assertEqual(len(json.loads(frames_of(error))), 5)
            self.assertEqual(len(json.loads(frames_of(error, Limits(frames=2)))), 2)
            late = json.loads(frames_of(error, Limits(seconds=-1)))
            self.assertNotIn("variables", late[0])

    def test_an_exception_without_own_frames_has_none(self):
        self.assertIsNone(frames_of(ValueError("never raised")))
        try:
            json.loads("{")
        except ValueError as error:
            self.assertEqual([frame["function"] for frame in json.loads(frames_of(error))], [self._testMethodName])


if __name__ == "__main__":
    unittest.main()
