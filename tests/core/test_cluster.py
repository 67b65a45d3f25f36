"""A batch on a real scheduler: the tables are those of this machine, though a worker is killed on the way."""

from __future__ import annotations

import socket
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from drawn import COUNTED, draw_clip, tables
from drover.core.batch.cluster import run_on_cluster
from drover.core.batch.plan import plan_jobs
from drover.core.batch.worker import tried_job
from drover.core.errors import DroverError


def _answers(address: str) -> bool:
    host, port = address.removeprefix("tcp://").split(":")
    with socket.socket() as place:
        return place.connect_ex((host, int(port))) == 0


@contextmanager
def cluster() -> Iterator[tuple[str, Callable[[], subprocess.Popen]]]:
    """A real scheduler, and a way to start workers for it, each a process of its own."""
    dask = str(Path(sys.executable).with_name("dask"))
    with socket.socket() as place:
        place.bind(("127.0.0.1", 0))
        address = f"tcp://127.0.0.1:{place.getsockname()[1]}"
    quiet: dict[str, Any] = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "start_new_session": True}
    started = [subprocess.Popen([dask, "scheduler", "--host", address, "--no-dashboard"], **quiet)]
    worker = [dask, "worker", address, "--nthreads", "1", "--no-nanny", "--no-dashboard"]

    def work() -> subprocess.Popen:
        started.append(subprocess.Popen(worker, **quiet))
        return started[-1]

    deadline = time.monotonic() + 60
    while time.monotonic() < deadline and not _answers(address):
        time.sleep(0.1)
    try:
        yield address, work
    finally:
        for process in started:
            process.kill()
            process.wait()


def test_a_cluster_gives_the_same_tables_though_a_worker_is_killed_on_the_way(tmp_path):
    clips, here, out = tmp_path / "clips", tmp_path / "here", tmp_path / "out"
    for name, back in (("clip 2", False), ("clip 10", True), ("night/clip 2", False)):
        draw_clip(clips / f"{name}.mp4", back=back)
    (clips / "night" / "broken.mp4").write_bytes(b"no video at all" * 50)
    jobs, recipe = plan_jobs([clips], here), tmp_path / "recipe.toml"
    recipe.write_text('[[count.line]]\nname = "Middle"\npoints = [[0.5, 0.95], [0.5, 0.05]]\n')
    command = [str(Path(sys.executable).with_name("drover")), "batch", str(clips), "--out", str(out)]
    with cluster() as (address, work):
        first = work()
        command += ["--recipe", str(recipe), "--scheduler", address]
        deadline, answer = time.monotonic() + 60, None
        while answer is None and time.monotonic() < deadline:  # until scheduler and workers are there
            batch = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
            while batch.poll() is None and not any(out.rglob("clip*")):
                time.sleep(0.02)
            answer = None if batch.poll() is not None else batch
        assert answer is not None
        first.kill()
        first.wait()
        work()  # another comes only now: two at once need more memory than a test should
        said, wrong = answer.communicate(timeout=120)
    assert "3 clips done, 1 failed" in said, wrong
    assert "broken.mp4: is not a video" in wrong
    for job in jobs:
        assert ("broken" in job.clip.name) == bool(tried_job(job, COUNTED, projects=False))
        assert tables(out / job.folder.relative_to(here)) == tables(job.folder)
    with pytest.raises(DroverError, match="no scheduler answers there"):
        run_on_cluster(jobs, COUNTED, address)
