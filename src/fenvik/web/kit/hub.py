"""One listener a process: what PostgreSQL tells goes to every page of that tuning which is open here."""

import asyncio
import contextlib
import json
import secrets
from collections import defaultdict
from collections.abc import AsyncIterator, Iterator

import psycopg
import structlog

from fenvik.web.kit.database import own_line
from fenvik.web.kit.notify import CHANNEL

log = structlog.get_logger(__name__)
AGAIN_S = 0.5
QUEUE_LENGTH = 64
ENDED = -1  # the number of the last thing that a page hears
ENDS = ("session", "person")  # whose notifications end a page
KINDS = ("screen", "tuning", *ENDS)
Key = tuple[str, int | str]  # one of KINDS, and its id


class Hub:
    """Hands notifications to subscribers."""

    def __init__(self) -> None:
        self._queues: dict[Key, set[asyncio.Queue[int]]] = defaultdict(set)
        self.trouble: dict[int, str] = {}  # by tuning: what keeps its pass from going on, until the next that is heard of it
        self.count = 0  # of notifications: whoever renders for one number need not render again
        self._own = secrets.token_hex(4)  # another process counts from the same number

    @property
    def mark(self) -> str:
        """What names this moment: as long as it is the same, nothing has been heard here."""
        return f"{self._own}.{self.count}"

    @property
    def pages(self) -> int:
        """How many pages listen here."""
        return len({id(queue) for queues in self._queues.values() for queue in queues})

    @contextlib.contextmanager
    def subscribe(self, *keys: Key) -> Iterator[asyncio.Queue[int]]:
        """Return a queue that gets a number for every notification of these, ENDED where it is one that ends a page."""
        queue: asyncio.Queue[int] = asyncio.Queue(QUEUE_LENGTH)
        for key in keys:
            self._queues[key].add(queue)
        try:
            yield queue
        finally:
            for key in keys:
                self._queues[key].discard(queue)
                if not self._queues[key]:
                    del self._queues[key]

    def tell(self, key: Key) -> None:
        """Hand a notification on; a page that is slow misses numbers, never the newest state nor its end."""
        self.count += 1
        for queue in self._queues.get(key, ()):
            if key[0] in ENDS:
                while queue.full():
                    queue.get_nowait()
                queue.put_nowait(ENDED)
            elif not queue.full():
                queue.put_nowait(self.count)

    def tell_all(self) -> None:
        """Let every page look again: something may have been missed."""
        for key in list(self._queues):
            if key[0] not in ENDS:
                self.tell(key)

    @contextlib.asynccontextmanager
    async def listening(self) -> AsyncIterator[None]:
        """Listen while the block runs."""
        task = asyncio.create_task(self._listen())
        try:
            yield
        finally:
            task.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await task

    async def _listen(self) -> None:
        while True:
            try:
                connection = await psycopg.AsyncConnection.connect(**own_line(), autocommit=True)
                async with connection:
                    await connection.execute(f"LISTEN {CHANNEL}")
                    self.count += 1  # what was told before now was not heard
                    self.tell_all()
                    async for note in connection.notifies():
                        told = json.loads(note.payload)
                        what = next(kind for kind in KINDS if kind in told)
                        if what == "tuning":
                            self.trouble.pop(told[what], None)
                            self.trouble |= {told[what]: str(told["trouble"])} if told.get("trouble") else {}
                        self.tell((what, told[what]))
            except (psycopg.Error, OSError, ValueError, KeyError, StopIteration) as error:
                log.warning("listening was interrupted", error=str(error))
            await asyncio.sleep(AGAIN_S)


async def newest(queue: asyncio.Queue[int], seconds: float) -> int | None:
    """Wait for a number, at most so long, and return the last of those that have come; ENDED goes before all others."""
    try:
        number = await asyncio.wait_for(queue.get(), seconds)
    except TimeoutError:
        return None
    while number != ENDED and not queue.empty():
        number = queue.get_nowait()
    return number


hub = Hub()
