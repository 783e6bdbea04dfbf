"""Links: a large file and many small ones to a server on loopback and back, by SFTP and FTP.

python -m benchmarks.links [MEBIBYTES [FILES]]

Held against OpenSSH's `sftp` and `curl`, with a digest (`b3sum`) on both ends, as that is what the
program does on the way: it reckons one of what it sends, and reads back all that has arrived. A
whole crossing is shown beside it: that sends, reads back, and keeps records.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from pathlib import Path, PurePath

from tests import servers

from benchmarks.big_crossing import lay_big_world
from benchmarks.measuring import Run, in_turn, ratio_line, run

_JOB = """
import os, resource, sys, time
from pathlib import Path
from clever_ferry.cargo import new_digest
from clever_ferry.links.opening import Asked, Links
job, address, folder, seconds = sys.argv[1:]
links = Links(Path(folder) / "known", Asked(lambda n: os.environ["WORD"], lambda a, q: True), list)
shore, root = links.shore(address)
shore.names(root)
here, digest = Path(folder) / "here", new_digest()
started = time.perf_counter()
for name in sorted(os.listdir(here)):
    digest = new_digest()
    if job == "up":
        with shore.create(root / name) as out, open(here / name, "rb") as file:
            while block := file.read(1 << 20):
                digest.update(block)
                out.write(block)
            out.finish(10**18)
    else:
        with shore.open(root / name) as file, open(Path(folder) / "back" / name, "wb") as out:
            while block := file.read(1 << 20):
                digest.update(block)
                out.write(block)
Path(seconds).write_text(str(time.perf_counter() - started))
"""


def main() -> None:
    """Print all figures."""
    size = int(sys.argv[1]) if len(sys.argv) > 1 else 512
    count = int(sys.argv[2]) if len(sys.argv) > 2 else 2000
    for way in ("sftp", "ftp"):
        with tempfile.TemporaryDirectory() as name:
            _files(Path(name), way, f"{size} MiB", 1, size << 20)
    with tempfile.TemporaryDirectory() as name:
        _files(Path(name), "sftp", f"{count:,} files of 4 KiB", count, 4096)
    with tempfile.TemporaryDirectory() as name:
        _crossing(Path(name), size)


def _files(top: Path, way: str, what: str, count: int, size: int) -> None:
    for folder in ("here", "back", "there", "user"):
        (top / folder).mkdir()
    for number in range(count):
        with (top / "here" / f"{number:05}.sav").open("wb") as out:
            for at in range(0, size, 1 << 20):  # what this process held, the next ones would show
                out.write(os.urandom(min(1 << 20, size - at)))
    there = top / "there"
    opened = servers.sftp(top / "ssh", top / "user") if way == "sftp" else servers.ftp(there)
    with opened as url:
        env = {**os.environ, "HOME": str(top / "user"), "WORD": servers.PASSWORD}
        address = f"{url}{there}" if way == "sftp" else f"{url}/"
        for job in ("up", "down"):
            taken: list[Run] = []

            def mine(job: str = job, taken: list[Run] = taken) -> Run:
                _emptied(there if job == "up" else top / "back")
                seconds = top / "seconds"
                whole = run([sys.executable, "-c", _JOB, job, address, str(top), str(seconds)], env)
                taken.append(Run(float(seconds.read_text()), whole.memory))
                return whole

            def theirs(job: str = job) -> Run:
                _emptied(there if job == "up" else top / "back")
                return run(["sh", "-c", _standard(way, job, url, top)], env)

            whole, other = in_turn(mine, theirs, rounds=3)
            print(
                ratio_line(
                    f"{way}, {what} {job} against the standard client", taken[1:], other, 1.5
                )
            )
            memory = max(one.memory for one in whole) >> 20
            print(f"  the whole process {whole[0].seconds:.2f} s, {memory} MiB (120 at the most)")


def _standard(way: str, job: str, url: str, top: Path) -> str:
    here, there, back = top / "here", top / "there", top / "back"
    digests = f"b3sum {here}/* >/dev/null && b3sum {there}/* >/dev/null"
    port = url.rpartition(":")[2]
    if way == "sftp":
        line = f"put {here}/* {there}/" if job == "up" else f"get {there}/* {back}/"
        options = (
            "-q -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null "
            f"-i {top}/user/.ssh/id_ed25519 -P {port}"
        )
        who = url.removeprefix("sftp://").rpartition(":")[0]
        return f"echo '{line}' | sftp {options} -b - {who} >/dev/null 2>&1 && {digests}"
    name = f"{url}/00000.sav".replace("player@", f"player:{servers.PASSWORD.replace(' ', '%20')}@")
    sent = f"-T {here}/00000.sav" if job == "up" else f"-o {back}/00000.sav"
    return f"curl -s {sent} '{name}' && {digests}"


def _emptied(folder: PurePath) -> None:
    for one in Path(folder).iterdir():
        one.unlink()
    os.sync()


def _crossing(top: Path, size: int) -> None:
    env, here = lay_big_world(top, size, pieces=8)
    del here
    (top / "there").mkdir()
    with servers.sftp(top / "ssh", top / "user") as url:
        env["HOME"] = str(top / "user")
        key = subprocess.check_output(["ssh-keygen", "-lf", top / "ssh/host.pub"], text=True)
        cferry = [sys.executable, "-m", "clever_ferry"]
        add = ["harbour", "add", "server", f"{url}{top}/there", "--trust", key.split()[1]]
        subprocess.run([*cferry, *add], env=env, check=True, stdout=subprocess.DEVNULL)
        done = run([*cferry, "cross", "big/here", "big/there@server", "--yes"], env)
        print(f"a crossing of {size} MiB to a server, sent and read back: {done.seconds:.1f} s, "
              f"memory {done.memory >> 20} MiB")  # fmt: skip


if __name__ == "__main__":
    main()
