"""B10: from `dravo serve` to `/readyz`; against a bare Flask and SQLAlchemy process with one table."""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path

import httpx

from dravo.demo.support import free_port
from dravo.services.context import AppContext
from dravo.services.security import operators
from dravo.services.security.operators import NewOperator
from dravo.services.security.permissions import SUPER_ADMINISTRATOR

ROUNDS = 7
BARE = """
import sys
import waitress
from flask import Flask
from sqlalchemy import Column, Integer, MetaData, Table, create_engine, select

metadata = MetaData()
table = Table("one", metadata, Column("id", Integer, primary_key=True))
engine = create_engine(f"sqlite:///{sys.argv[1]}")
metadata.create_all(engine)
app = Flask("bare")

@app.route("/readyz")
def ready():
    with engine.connect() as connection:
        connection.execute(select(table)).all()
    return {"status": "ready"}

waitress.serve(app, host="127.0.0.1", port=int(sys.argv[2]), threads=8)
"""


def seconds_to_ready(command: Sequence[str], port: int) -> float:
    """Return the seconds from the start of a command until it answers /readyz with 200."""
    with httpx.Client(trust_env=False, verify=False) as http:
        began = time.perf_counter()
        process = subprocess.Popen(command, stderr=subprocess.DEVNULL)
        try:
            while True:
                try:
                    if http.get(f"http://127.0.0.1:{port}/readyz").status_code == 200:
                        return time.perf_counter() - began
                except httpx.HTTPError:
                    pass
                if process.poll() is not None:
                    raise RuntimeError(f"{command[0]} ended with {process.returncode}")
                time.sleep(0.005)
        finally:
            process.terminate()
            process.wait()


def run() -> None:
    """Measure both in turn, and print the medians and their ratio."""
    with tempfile.TemporaryDirectory() as folder:
        ctx = AppContext(Path(folder))
        operators.add(ctx, operators.SYSTEM, NewOperator("edmund.sallow", SUPER_ADMINISTRATOR))
        ctx.close()
        bare, service = [], []
        for _ in range(ROUNDS):
            port = free_port()
            bare.append(
                seconds_to_ready([sys.executable, "-c", BARE, f"{folder}/bare.sqlite", str(port)], port)
            )
            port = free_port()
            command = [sys.executable, "-m", "dravo.cli.main", "serve", "--data", folder, "--port", str(port)]
            service.append(seconds_to_ready(command, port))
    ratio = statistics.median(service) / statistics.median(bare)
    print(
        f"B10 start to ready: {statistics.median(service):.2f} s; bare {statistics.median(bare):.2f} s; "
        f"ratio {ratio:.1f} (goal: at most 3)"
    )
