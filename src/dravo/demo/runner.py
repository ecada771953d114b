"""`dravo demo`: the service, the stand-ins, and the scenario, loaded through the real inbound SCIM."""

from __future__ import annotations

import os
import secrets
import signal
import subprocess
import sys
import time
from functools import partial
from pathlib import Path

from rich.console import Console

from dravo.client import Dravo
from dravo.demo import contractors, scenario
from dravo.demo.application import TOKEN_VARIABLE
from dravo.demo.content import DemoContent
from dravo.demo.import_sources import Sources
from dravo.demo.support import DemoFailed, free, free_port, http, listen_near, wait_until, write_private
from dravo.logs import configure
from dravo.services.context import AppContext
from dravo.services.data_folder import PRIVATE_UMASK
from dravo.services.security import api_tokens, operators
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.security.permissions import SUPER_ADMINISTRATOR, Caller
from dravo.supervisor import Service, ServiceAddress, folder_lock, load

OPERATOR = "edmund.sallow"


class Demo(DemoContent):
    """One demo in a data folder; what it needs for the next start is in a file that only its owner can
    read.
    """

    def run(self) -> None:
        """Set up what is missing, start everything, and serve until interrupted."""
        started = time.monotonic()
        os.umask(PRIVATE_UMASK)
        with folder_lock(self.folder):
            log = open(self.folder / "service.log", "a")  # noqa: SIM115 (the children keep it open)
            configure("serve", log)
            address = ServiceAddress("127.0.0.1", self.port)
            service = Service(self.folder, address, log_file=log, allow_loopback=True)
            self.service = service
            service.listen()
            signal.signal(signal.SIGTERM, lambda *_: service.stop_soon())
            signal.signal(signal.SIGINT, lambda *_: service.stop_soon())
            try:
                # They start while this process sets up the data folder.
                with self._step("Prepare the stand-ins"):
                    self._start_stand_ins()
                if "operator" not in self.kept:
                    with self._step("Set up the data folder"):
                        self._make_operator()
                with self._step("Load the service"):
                    load()
                # Outside of a step, whose progress is shown by a thread.
                service.start()
                with self._step("Start the service"):
                    wait_until(
                        lambda: bool(service.ended()) or http.get(f"{self.url}/readyz").status_code == 200,
                        "the service",
                        90,
                    )
                    if service.ended():
                        raise DemoFailed(
                            "The service could not start.", "See service.log in the data folder."
                        )
                with self._step("Start the stand-ins"):
                    self._wait_for_stand_ins()
                with Dravo(self.url, self.kept["api_token"]) as dravo:
                    if not self.kept.get("loaded"):
                        self._load(dravo)
                    self._reconnect(dravo)
                self._write_ready_file()
                self._say_where(time.monotonic() - started)
                service.watch()
            finally:
                service.stop()
                if self.sources is not None:
                    self.sources.stop()
                for child in self.stand_ins.values():
                    child.kill()

    def _make_operator(self) -> None:
        ctx = AppContext(self.folder)
        made = operators.add(ctx, operators.SYSTEM, NewOperator(OPERATOR, SUPER_ADMINISTRATOR))
        caller = Caller(made.id, made.name, SUPER_ADMINISTRATOR)
        token = api_tokens.create(ctx, caller, "Demo", "write")
        ctx.close()
        self.kept |= {
            "operator": {"name": OPERATOR, "password": made.password},
            "api_token": token.token,
        }
        self._keep()

    def _start_stand_ins(self) -> None:
        self.kept.setdefault("stand_ins", {})
        self._start("provider", "dravo.demo.scim_provider", "Fernhollow staff provider")
        for application in scenario.APPLICATIONS:
            if application.get("stand_in"):
                self._start(application["key"], "dravo.demo.application", application["label"])
        self._start(
            contractors.KEY, "dravo.demo.sign_in_provider", "Rootworks sign-in provider (contractors)"
        )
        smtp = self.kept["stand_ins"].setdefault("smtp", {"port": self.port + 32})
        if not free(smtp["port"]):
            smtp["port"] = free_port()
        self._start("mail", "dravo.demo.mail_server", "Sent emails", "--smtp-port", str(smtp["port"]))
        kept = self.kept["stand_ins"].setdefault("estates", {"port": self.port + 30})
        if not free(kept["port"]) or not free(kept["port"] + 1):
            kept["port"] = free_port()
        self.sources = Sources(self.folder, kept["port"])
        self.sources.start()
        self._keep()

    def _wait_for_stand_ins(self) -> None:
        for name, address in self.addresses.items():
            wait_until(partial(_answers, address), f"the stand-in '{name}'", 20)

    def _start(self, key: str, module: str, label: str, *more: str) -> None:
        kept = self.kept["stand_ins"].setdefault(
            key, {"token": secrets.token_hex(24), "port": self.port + 10 + len(self.addresses)}
        )
        # Bound here, so that nothing else can have the port, and nothing else answers in place of the
        # stand-in.
        listening = listen_near(kept["port"])
        kept["port"] = listening.getsockname()[1]
        command = [
            sys.executable,
            "-m",
            module,
            "--name",
            label,
            "--port",
            str(kept["port"]),
            "--listening",
            str(listening.fileno()),
        ]
        command += ["--data-file", str(self.folder / f"stand-in-{key}"), *more]
        # A process's arguments are for every user of the machine to read; its environment is not.
        environment = {**os.environ, TOKEN_VARIABLE: kept["token"]}
        # In sessions of their own: Ctrl-C in a terminal is for this process, which ends them.
        with listening:
            self.stand_ins[key] = subprocess.Popen(
                command,
                stdin=subprocess.PIPE,
                start_new_session=True,
                env=environment,
                pass_fds=[listening.fileno()],
            )
        self.addresses[key] = f"http://127.0.0.1:{kept['port']}"
        self._keep()

    def _write_ready_file(self) -> None:
        if self.ready_file is None:
            return
        applications = [
            {
                "key": key,
                "base_url": f"{self.addresses[key]}/scim/v2",
                "token": self.kept["stand_ins"][key]["token"],
            }
            for key in self._application_keys()
        ]
        write_private(
            self.ready_file,
            {
                "url": self.url,
                "operator": self.kept["operator"],
                "api_token": self.kept["api_token"],
                "push": [
                    {
                        "source": scenario.SOURCE_KEY,
                        "base_url": f"{self.url}/scim/v2/{scenario.SOURCE_KEY}",
                        "token": self.kept["push_token"],
                    }
                ],
                "applications": applications,
                "stand_ins": self.addresses,
                "try": scenario.TRY,
            },
        )

    def _say_where(self, seconds: float) -> None:
        operator = self.kept["operator"]
        say = self.screen.print
        say(f"\n[bold]Dravo is running[/bold] (up in {seconds:.1f} s).\n", highlight=False)
        say(f"  Console      {self.url}/", highlight=False)
        say(f"  Sign in as   {operator['name']}   password   {operator['password']}", highlight=False)
        say(f"  API          {self.url}/api/v1/   (documentation, works offline)", highlight=False)
        for name, address in self.addresses.items():
            say(f"  Stand-in     {address}/   ({name})", highlight=False)
        if self.sources is not None and self.sources.directory is not None:
            say(f"  Directory    {self.sources.directory.address}   (estates, slapd)", highlight=False)
        say("\nThe command line, in another terminal:\n", highlight=False)
        say(
            f"  export DRAVO_URL={self.url} DRAVO_TOKEN={self.kept['api_token']}",
            highlight=False,
            soft_wrap=True,
        )
        say("  .venv/bin/dravo access why zofia.wisniarska plant-records\n", highlight=False)
        say(
            "Stop with Ctrl-C. The next start continues with the same data; 'make demo-fresh' starts "
            "with new data.",
            highlight=False,
        )


def _answers(address: str) -> bool:
    return http.get(address).status_code == 200


def run_demo(folder: Path, port: int, ready_file: Path | None) -> None:
    """Run the demo until interrupted."""
    Demo(folder, port, ready_file, Console()).run()
