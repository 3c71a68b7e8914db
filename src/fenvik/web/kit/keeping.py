"""Keeping what is dear to work out, for all threads of a process."""

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Generic, TypeVar

Value = TypeVar("Value")


class Kept(Generic[Value]):
    """The values that were asked for last, at most ``most`` of them.

    Threads ask at the same time: one may drop a value just after another has seen that it is there.
    """

    def __init__(self, most: int) -> None:
        self._most = most
        self._values: OrderedDict[Hashable, Value] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: Hashable, make: Callable[[], Value]) -> Value:
        """Return the value of a key, made where it is not there. Two threads may both make one: making holds nobody up."""
        with self._lock:
            if key in self._values:
                self._values.move_to_end(key)
                return self._values[key]
        made = make()
        with self._lock:
            self._values[key] = made
            while len(self._values) > self._most:
                self._values.popitem(last=False)
        return made

    def clear(self) -> None:
        """Forget everything."""
        with self._lock:
            self._values.clear()

    def __len__(self) -> int:
        """Return how many are kept."""
        return len(self._values)
