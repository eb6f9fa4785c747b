"""Joints that have been rendered, kept for when they are asked for again."""

from __future__ import annotations

import os
import threading
from collections import OrderedDict

import numpy as np

from gluvo.render.joint import Joint
from gluvo.session.scratch import let_rest, room_on_disk

LEAST_BUDGET, SHARE_OF_DISK = 6_000_000_000, 0.5
"""Bytes that renders may take in any case, and the share of what is free on disk that they may take if that is more: an
hour of song is 1.4 GB at each of its joints."""
LEAST_MEMORY, SHARE_OF_MEMORY = 200_000_000, 0.03
"""Bytes on the heap that what was measured of them may take in any case, and the share of the machine's memory if that is
more: two megabytes at each joint of a song of four minutes."""


class Cache:
    """Joints by key, the least used ones dropped when they are too many or too large. Safe between threads.

    Large audio lies in mapped files (see `scratch`), small audio and what was measured on the heap; each has a bound.
    A stretch of a whole-song joint holds on to it, and goes with it.
    """

    def __init__(self, budget: int | None = None, memory: int | None = None, most: int = 1500) -> None:
        """`budget`: bytes of audio in all, as the disk has room if none is given; `memory`: bytes on the heap, as the
        machine has; `most`: joints."""
        room = max(LEAST_BUDGET, round(SHARE_OF_DISK * room_on_disk()))
        there = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
        self._budget, self._most = room if budget is None else budget, most
        self._memory = max(LEAST_MEMORY, round(SHARE_OF_MEMORY * there)) if memory is None else memory
        self._joints: OrderedDict[object, Joint] = OrderedDict()
        self._total = self._heap = 0
        self._lock = threading.Lock()

    def get(self, key: object) -> Joint | None:
        with self._lock:
            if key in self._joints:
                self._joints.move_to_end(key)
            return self._joints.get(key)

    def put(self, key: object, joint: Joint) -> None:
        with self._lock:
            self._drop(key)
            self._joints[key] = joint
            if joint.part_of is None and isinstance(joint.audio, np.ndarray):
                let_rest(joint.audio)
            self._total += joint.bytes
            self._heap += joint.heap
            while len(self._joints) > 1 and (
                self._total > self._budget or self._heap > self._memory or len(self._joints) > self._most
            ):
                self._drop(next(iter(self._joints)))

    def _drop(self, key: object) -> None:
        joint = self._joints.pop(key, None)
        if joint is None:
            return
        self._total -= joint.bytes
        self._heap -= joint.heap
        for other in [k for k, j in self._joints.items() if j.part_of is joint]:
            self._drop(other)

    def __len__(self) -> int:
        return len(self._joints)

    @property
    def bytes(self) -> int:
        """Bytes of audio and traces, in files and on the heap."""
        return self._total

    @property
    def heap(self) -> int:
        """Bytes on the heap."""
        return self._heap
