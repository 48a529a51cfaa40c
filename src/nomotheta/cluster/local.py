"""An engine on this machine, for trying it out: the server that comes with the package, for as long as we run."""

from __future__ import annotations

import atexit
import contextlib
import ctypes
import os
import re
import signal
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from nomotheta.errors import PlaceError

_SERVER = "org.apache.spark.sql.connect.service.SparkConnectServer"
_PATIENCE, _TRIES = 120, 4  # seconds until it is up, and times that a task is tried
_DIES_WITH_PARENT = 1  # PR_SET_PDEATHSIG of Linux


def start(engine: str, master: str) -> str:
    """Start a server, such as for `local[2]`; the connection string by which it is reached.

    It ends with this program, however that ends.

    Raises:
        PlaceError: it does not come up.
    """
    import pyspark

    home = Path(pyspark.__file__).parent
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    folder = tempfile.TemporaryDirectory(prefix="nomotheta-", ignore_cleanup_errors=True)
    settings = {
        "spark.connect.grpc.binding.port": port, "spark.connect.grpc.binding.address": "127.0.0.1",
        "spark.ui.enabled": "false", "spark.driver.host": "127.0.0.1", "spark.sql.session.timeZone": "UTC",
        "spark.local.dir": folder.name, "spark.sql.warehouse.dir": f"{folder.name}/tables",
        "spark.driver.memory": "2g", "spark.driver.extraJavaOptions": "-Duser.timezone=UTC",
        # what it remembers of statements: it has no pages to show them on
        "spark.sql.ui.retainedExecutions": 10, "spark.connect.ui.retainedStatements": 10, "spark.ui.retainedJobs": 50,
        "spark.ui.retainedStages": 50, "spark.sql.maxPlanStringLength": 10_000,
    }  # fmt: skip
    several = re.fullmatch(r"local\[(\d+|\*)\]", master)
    master = f"local[{several[1]},{_TRIES}]" if several else master  # else a task whose worker dies is not repeated
    given = [word for name, value in settings.items() for word in ("--conf", f"{name}={value}")]
    log = tempfile.TemporaryFile(prefix="nomotheta-")  # noqa: SIM115 - the server writes to it for as long as it runs
    running = subprocess.Popen(  # noqa: S603 - the server of the installed package
        [str(home / "bin/spark-submit"), "--class", _SERVER, "--master", master, *given, "spark-internal"],
        stdout=log, stderr=log, stdin=subprocess.DEVNULL, preexec_fn=_end_with_parent,  # noqa: PLW1509
        env=os.environ | {"SPARK_HOME": str(home), "PYSPARK_PYTHON": sys.executable, "SPARK_LOCAL_IP": "127.0.0.1"},
    )  # fmt: skip
    atexit.register(_stop, running, folder)
    until = time.monotonic() + _PATIENCE
    while time.monotonic() < until and running.poll() is None:
        with socket.socket() as tried:
            if tried.connect_ex(("127.0.0.1", port)) == 0:
                return f"sc://127.0.0.1:{port}"
        time.sleep(0.1)
    _stop(running, folder)
    log.seek(0)
    said = [line for line in log.read().decode(errors="replace").splitlines() if line.strip()]
    told = next((line for line in said if "java" in line.lower() or "error" in line.lower()), said[-1] if said else "")
    raise PlaceError(f"the engine on this machine does not come up: {told.strip()}", where=f"engine {engine}",
                     mend="it needs Java 17 or newer: java -version")  # fmt: skip


def _end_with_parent() -> None:
    """Have the system end the server when this program is gone, and leave Ctrl-C to us."""
    os.setpgrp()
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(_DIES_WITH_PARENT, signal.SIGKILL)


def _stop(running: subprocess.Popen[bytes], folder: tempfile.TemporaryDirectory[str]) -> None:
    with contextlib.suppress(ProcessLookupError):
        os.killpg(running.pid, signal.SIGKILL)
    running.wait()
    folder.cleanup()
