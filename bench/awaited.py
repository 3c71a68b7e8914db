"""Coroutines of the stand-ins, waited for in a thread: the browser tests keep a loop running in the main one."""

import asyncio
from concurrent.futures import ThreadPoolExecutor

_THREAD = ThreadPoolExecutor(1)


def result_of(coroutine):
    return _THREAD.submit(asyncio.run, coroutine).result(30)
