"""The audio thread: takes block after block to a device, and tells where the sound is."""

from __future__ import annotations

import contextlib
import logging
import os
import threading
import time
from typing import Protocol

import numpy as np

from gluvo.dsp.kernel import Audio
from gluvo.errors import DeviceError
from gluvo.play.device import BLOCK, Device
from gluvo.play.meters import DROPOUTS, PLAYING, POSITION, STALLS, TAKEN, Board

log = logging.getLogger(__name__)

PRIORITY = 5
"""Of the audio thread among real-time threads: under those of the sound server."""

QUICK = 1.0
"""Part of a block's length; a block that took less of the processor's time was late for another reason, since several
are held ahead."""


class Player(Protocol):
    """What makes the sound."""

    board: Board
    playing: bool

    def pull(self, out: Audio) -> None: ...
    @property
    def position(self) -> float: ...
    @property
    def sounding(self) -> bool: ...
    @property
    def marked(self) -> int: ...


class Output:
    """Plays to one device at a time, on a thread of its own."""

    def __init__(self, player: Player) -> None:
        self._player = player
        self._device: Device | None = None
        self.thread: threading.Thread | None = None
        self._closing = False
        self._out = np.zeros((BLOCK, 2))
        self._block = np.zeros((BLOCK, 2), dtype=np.float32)
        self.failed = ""
        """Why the thread has ended; empty while it has not."""
        self.broken = False
        """Whether that was a fault of the program's own, and not the device's."""

    def start(self, device: Device) -> None:
        """Play to a device from now on."""
        self._device = device
        self._closing, self.failed, self.broken = False, "", False
        self.thread = threading.Thread(target=self._run, args=(device,), name="gluvo-audio", daemon=True)
        self.thread.start()

    def close(self) -> None:
        """Stop the thread and close the device."""
        self._closing = True
        if self.thread is not None:
            self.thread.join(timeout=2.0)
            self.thread = None
        if self._device is not None:
            self._device.close()
            self._device = None

    def _run(self, device: Device) -> None:
        with contextlib.suppress(OSError, AttributeError):  # it is granted to few, and works without on an idle machine
            os.sched_setscheduler(0, os.SCHED_RR | os.SCHED_RESET_ON_FORK, os.sched_param(PRIORITY))
        player, state = self._player, self._player.board.state
        sounding, quick = False, QUICK * BLOCK / device.rate
        try:
            while not self._closing:
                began = time.thread_time()
                player.pull(self._out)
                before, sounding = sounding, player.sounding
                np.copyto(self._block, self._out, casting="same_kind")
                reckoned = time.thread_time() - began
                if device.write(self._block) and (before or sounding):
                    state[DROPOUTS] += 1
                    state[STALLS] += reckoned < quick
                state[POSITION], state[PLAYING] = player.position, player.playing
                state[TAKEN] = player.marked  # last, so that who sees it sees that place
        except DeviceError as error:
            self.failed = str(error)
        except Exception as error:  # the process goes on, and sees to it
            log.exception("the audio thread has failed")
            self.failed, self.broken = repr(error), True
