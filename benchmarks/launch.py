"""Run a command and print its seconds, peak memory and status: from a small process, since a child's peak begins with
its parent's."""

from __future__ import annotations

import os
import sys
import time

if __name__ == "__main__":
    report = os.dup(1)
    os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
    began = time.perf_counter()
    process = os.posix_spawnp(sys.argv[1], sys.argv[1:], os.environ)
    _, status, usage = os.wait4(process, 0)
    took = time.perf_counter() - began
    os.write(report, f"{took!r} {usage.ru_maxrss} {os.waitstatus_to_exitcode(status)}".encode())
