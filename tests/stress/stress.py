#!/usr/bin/env python3
"""Random trials of all commands that write archives: killed, out of room, on damaged bytes, with the file replaced, several at once.

    stress.py PROGRAM [ROUNDS [SEED]]

ROUNDS with an 's' behind it is a time in seconds.

After each round: the archive lists what it did before the command or what it does after it, verifying finds no damage that was not
made here, no image has another root than it had, and the next capture works. Damage that was made is found, and nothing wrong is handed
out. Prints the seed, so that a run can be made again; ends with 1 at the first finding, with the archive left in place.
"""
import hashlib
import json
import os
import random
import resource
import shutil
import signal
import subprocess
import sys
import tempfile
import time

from disks import Disks

PROGRAM = os.path.abspath(sys.argv[1])
HOW_LONG = sys.argv[2] if len(sys.argv) > 2 else "2000"
ROUNDS, SECONDS = (1 << 31, int(HOW_LONG[:-1])) if HOW_LONG.endswith("s") else (int(HOW_LONG), 1 << 31)
SEED = int(sys.argv[3]) if len(sys.argv) > 3 else random.randrange(1 << 31)
SIGNALS = (signal.SIGKILL, signal.SIGKILL, signal.SIGTERM, signal.SIGINT, signal.SIGHUP)
rng = random.Random(SEED)


class Finding(Exception):
    pass


def start(arguments, limit=None):
    def narrow():
        if limit is not None:
            signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
            resource.setrlimit(resource.RLIMIT_FSIZE, (limit, limit))
    return subprocess.Popen([PROGRAM, *arguments], stdout=subprocess.PIPE, stderr=subprocess.PIPE, preexec_fn=narrow, cwd=folder)


def run(*arguments, limit=None):
    process = start(arguments, limit)
    try:
        out, err = process.communicate(timeout=120)
    except subprocess.TimeoutExpired:
        process.kill()
        raise Finding(f"{' '.join(arguments)} did not end within two minutes")
    if process.returncode not in (0, 1, 2, 3, 4, 5, 130):
        raise Finding(f"{' '.join(arguments)} ended with {process.returncode}: {err.decode(errors='replace')[-2000:]}")
    return process.returncode, out.decode(errors="replace"), err.decode(errors="replace")


def listing(archive):
    code, out, err = run("list", archive, "--json")
    if code != 0:
        return None
    return tuple((i["number"], i["name"], i["root"]) for i in json.loads(out)["images"])


def tree(name, files):
    top = os.path.join(folder, name)
    shutil.rmtree(top, ignore_errors=True)
    for i in range(files):
        path = os.path.join(top, f"d{i % 3}", f"f{i}")
        os.makedirs(os.path.dirname(path), exist_ok=True)
        with open(path, "wb") as file:
            file.write(rng.randbytes(rng.choice((0, 10, 500, 5000, 60000, 300000))) if i % 2 else b"words " * rng.randrange(2000))
    return top


def commands():
    """Every command that writes an archive, as words; the archive is a.vmb."""
    name = f"n{rng.randrange(1 << 30)}"
    return rng.choice((
        ("capture", rng.choice(trees), "a.vmb", "--name", name),
        ("capture", rng.choice(trees), "a.vmb", "--name", name, "--effort", "quick", "--reread"),
        ("service", "a.vmb#1", "--put", f"{trees[0]}/d1/f1=put/{name}", "--as", name),
        ("service", "a.vmb#1", "--put", f"{trees[1]}/d1/f1=put/{name}", "--in-place"),
        ("retitle", "a.vmb#1", "--note", name),
        ("drop", "a.vmb#2", "--confirm"),
        ("rewind", "a.vmb", "--to", str(rng.randrange(1, 4))),
        ("copy", "from.vmb#1", "a.vmb", "--name", name),
        ("compact", "a.vmb", "--confirm"),
        ("compact", "a.vmb", "--effort", "quick", "--confirm"),
        ("verify", "a.vmb", "--repair-from", "from.vmb"),
    ))


def prepare():
    """An archive of two images and some states, with or without what an interrupted run left."""
    shutil.copy(os.path.join(folder, "prepared.vmb"), os.path.join(folder, "a.vmb"))
    if rng.randrange(3) == 0:
        with open(os.path.join(folder, "a.vmb"), "ab") as file:
            file.write(rng.randbytes(rng.randrange(1, 20000)))
    return listing("a.vmb")


def sound(before, after, what):
    """What must hold of an archive that nobody damaged."""
    found = listing("a.vmb")
    if found is None:
        raise Finding(f"{what}: the archive cannot be listed any more")
    if after is not None and found not in (before, after) and {i[:2] for i in found} not in ({i[:2] for i in before}, {i[:2] for i in after}):
        raise Finding(f"{what}: {found} is neither {before} nor {after}")
    code, out, _ = run("verify", "a.vmb", "--json")
    if json.loads(out).get("damage"):
        raise Finding(f"{what}: {json.loads(out)['damage'][:3]}")
    code, _, err = run("capture", trees[2], "a.vmb", "--name", "next")
    if code != 0:
        raise Finding(f"{what}: the next capture ended with {code}: {err}")
    if run("verify", "a.vmb")[0] != 0:
        raise Finding(f"{what}: it is not in order after the next capture")


def whole(words, before):
    """What the command does when nothing is in its way."""
    code, _, err = run(*words)
    if code not in (0, 1):
        raise Finding(f"{' '.join(words)} ended with {code} although nothing was in its way: {err}")
    after = listing("a.vmb")
    shutil.copy(os.path.join(folder, "prepared.vmb"), os.path.join(folder, "a.vmb"))
    return after


def killed():
    before, words = prepare(), commands()
    began = time.monotonic()
    after = whole(words, before)
    took = time.monotonic() - began
    process = start(words)
    time.sleep(rng.random() * took)
    process.send_signal(rng.choice(SIGNALS))
    process.communicate()
    sound(before, after, f"killed {' '.join(words)}")


def full():
    before, words = prepare(), commands()
    size = os.path.getsize(os.path.join(folder, "a.vmb"))
    run(*words, limit=size + rng.randrange(-1000, 200000))
    sound(before, None, f"no room for {' '.join(words)}")


def flipped():
    before, words = prepare(), commands()
    path = os.path.join(folder, "a.vmb")
    data = bytearray(open(path, "rb").read())
    for _ in range(rng.choice((1, 1, 1, 3))):
        data[rng.randrange(len(data))] ^= 1 << rng.randrange(8)
    open(path, "wb").write(data)
    run(*words)
    found = listing("a.vmb")
    for number, name, root in found or ():
        known = [i for i in before if i[0] == number and i[1] == name]
        if known and words[0] not in ("service", "rewind") and known[0][2] != root:
            raise Finding(f"flipped, then {' '.join(words)}: image {number} has another root")
    for number, *_ in (before[0],):
        target = os.path.join(folder, "out")
        shutil.rmtree(target, ignore_errors=True)
        code, _, _ = run("deploy", f"a.vmb#{number}", "out")
        if code == 0:
            for place, _, files in os.walk(target):
                for file in files:
                    own = os.path.join(place, file)
                    relative = os.path.relpath(own, target)
                    if not relative.startswith("put") and hashlib.sha256(open(own, "rb").read()).digest() != expected.get(relative):
                        raise Finding(f"flipped, then {' '.join(words)}: {relative} was handed out wrong")
    code, out, _ = run("verify", "a.vmb", "--json")
    run("verify", "a.vmb", "--repair-from", "prepared.vmb")


def replaced():
    before, words = prepare(), commands()
    other = os.path.join(folder, "other")
    open(other, "wb").write(b"another file")
    process = start(words)
    time.sleep(rng.random() * 0.05)
    os.replace(other, os.path.join(folder, "a.vmb"))
    out, err = process.communicate()
    if process.returncode not in (0, 1, 3, 4, 5):
        raise Finding(f"replaced during {' '.join(words)}: ended with {process.returncode}: {err.decode(errors='replace')}")
    # A command that was through before the replacement, or began after it, says so; in neither case is the other file touched.
    if open(os.path.join(folder, "a.vmb"), "rb").read() != b"another file":
        raise Finding(f"replaced during {' '.join(words)}: the other file was touched")


def together():
    before = prepare()
    processes = [start((*commands(), "--wait", "60")) for _ in range(rng.randrange(2, 5))]
    for process in processes:
        out, err = process.communicate(timeout=120)
        if process.returncode not in (0, 1, 3, 5):
            raise Finding(f"several at once: one ended with {process.returncode}: {err.decode(errors='replace')}")
    sound(before, None, "several at once")


def synced():
    """A site that is brought up to date, killed on the way."""
    prepare()
    with open(os.path.join(folder, "vembar.yaml"), "w") as file:
        file.write("archive: a.vmb\nsites:\n  far: { place: far.vmb, newest: 1 }\n")
    if os.path.exists(os.path.join(folder, "far.vmb")) and rng.randrange(2):
        os.remove(os.path.join(folder, "far.vmb"))
    process = start(("sync", "--project", "vembar.yaml"))
    time.sleep(rng.random())
    process.send_signal(rng.choice(SIGNALS))
    process.communicate()
    code, _, err = run("sync", "--project", "vembar.yaml")
    if code != 0:
        raise Finding(f"sync after a sync that was killed ended with {code}: {err}")
    code, out, _ = run("verify", "far.vmb", "--json")
    if json.loads(out)["damage"]:
        raise Finding(f"a site after a sync that was killed: {json.loads(out)['damage'][:3]}")


print(f"seed {SEED}, {HOW_LONG} rounds", flush=True)
folder = tempfile.mkdtemp(prefix="vembar-stress-")
trees = [tree("one", 12), tree("two", 9), tree("three", 4)]
expected = {}
for place, _, files in os.walk(trees[0]):
    for file in files:
        own = os.path.join(place, file)
        expected[os.path.relpath(own, trees[0])] = hashlib.sha256(open(own, "rb").read()).digest()
for arguments in (("capture", trees[0], "prepared.vmb", "--name", "one"), ("capture", trees[1], "prepared.vmb", "--name", "two"),
                  ("retitle", "prepared.vmb#2", "--note", "x"), ("drop", "prepared.vmb#2", "--confirm"), ("rewind", "prepared.vmb", "--to", "3"),
                  ("capture", trees[2], "from.vmb", "--name", "copied")):
    if run(*arguments)[0] != 0:
        raise SystemExit(f"{arguments} failed")
disks = Disks(folder, PROGRAM, rng, run, Finding)
kinds = (killed, killed, full, flipped, flipped, replaced, together, synced, disks.container, disks.container, disks.failing, disks.failing,
         disks.killed_disk, disks.changing)
done = dict.fromkeys((k.__name__ for k in kinds), 0)
began = time.monotonic()
number = -1
for number in range(ROUNDS):
    if time.monotonic() - began > SECONDS:
        break
    kind = rng.choice(kinds)
    try:
        kind()
    except Finding as finding:
        print(f"round {number} ({kind.__name__}): {finding}\nseed {SEED}; the archive is in {folder}")
        raise SystemExit(1)
    done[kind.__name__] += 1
    if number % 100 == 99:
        print(f"{number + 1} rounds: {', '.join(f'{k} {v}' for k, v in done.items())}", flush=True)
shutil.rmtree(folder)
print(f"nothing found in {sum(done.values())} rounds: {', '.join(f'{k} {v}' for k, v in done.items())}")
