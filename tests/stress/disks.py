"""Rounds on disks for stress.py: containers that are damaged, devices that fail at a chosen call, deployments that are killed.

What must hold: a capture that ends with 0 has the root that the whole disk has; a deployment that ends with 0 gives the image back; a new
disk image has its name only when it is whole; an erased disk that was not finished says so; advice to run a command again works.
"""
import json
import os
import shutil
import signal
import subprocess
import time

START, SECTORS = 2048, 60000


class Disks:
    def __init__(self, folder, program, rng, run, finding):
        self.folder, self.program, self.rng, self.run, self.finding = folder, program, rng, run, finding
        self.has_trace = shutil.which("strace") is not None
        self.prepare()

    def at(self, name):
        return os.path.join(self.folder, name)

    def prepare(self):
        """A raw disk with one NTFS volume, empty and with an image on it."""
        for name in ("empty.img",):
            with open(self.at(name), "wb") as file:
                file.truncate(40 << 20)
            table = f"label: gpt\nstart={START}, size={SECTORS}, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7\n"
            subprocess.run(["sfdisk", "-q", self.at(name)], input=table.encode(), check=True, capture_output=True)
            with open(self.at("volume"), "wb") as file:
                file.truncate(SECTORS * 512)
            subprocess.run(["mkntfs", "-F", "-Q", "-q", "-p", str(START), "-H", "255", "-S", "63", "-s", "512", self.at("volume")],
                           check=True, capture_output=True)
            subprocess.run(["dd", f"if={self.at('volume')}", f"of={self.at(name)}", "bs=512", f"seek={START}", "conv=notrunc,sparse",
                            "status=none"], check=True)
        shutil.copy(self.at("empty.img"), self.at("full.img"))
        self.must("deploy", "prepared.vmb#1", "full.img", "--volume", "1", "--verify")
        self.root = self.root_of("full.img")

    def must(self, *words):
        code, _, err = self.run(*words)
        if code != 0:
            raise self.finding(f"{' '.join(words)} ended with {code} although nothing was in its way: {err}")

    def root_of(self, disk, number=1):
        """The root of a capture; None where it was refused."""
        archive = self.at("disks.vmb")
        if os.path.exists(archive):
            os.remove(archive)
        code, _, _ = self.run("capture", disk, "disks.vmb", "--name", "x", "--volume", str(number), "--accept-unready", "--reread")
        if code != 0:
            return None
        _, out, _ = self.run("list", "disks.vmb", "--json")
        return json.loads(out)["images"][0]["root"]

    def container(self):
        """A container, whole, cut short, or with changed bytes."""
        kind, ending, options = self.rng.choice((("qcow2", "qcow2", ()), ("qcow2", "qcow2", ("-c",)), ("vmdk", "vmdk", ()),
                                                 ("vmdk", "vmdk", ("-o", "subformat=streamOptimized")), ("vpc", "vhd", ()),
                                                 ("vpc", "vhd", ("-o", "subformat=fixed")), ("vhdx", "vhdx", ()), ("vdi", "vdi", ())))
        disk = f"container.{ending}"
        subprocess.run(["qemu-img", "convert", "-f", "raw", "-O", kind, *options, self.at("full.img"), self.at(disk)], check=True)
        size = os.path.getsize(self.at(disk))
        how = self.rng.choice(("whole", "cut", "cut", "header"))
        if how == "cut":
            os.truncate(self.at(disk), self.rng.randrange(size))
        elif how == "header":
            with open(self.at(disk), "r+b") as file:
                for _ in range(self.rng.choice((1, 2, 5))):
                    file.seek(self.rng.randrange(min(size, 1 << 17)))
                    file.write(bytes([self.rng.randrange(256)]))
        root = self.root_of(disk)
        os.remove(self.at(disk))
        if how == "whole" and root != self.root:
            raise self.finding(f"a whole {kind} {options} gave root {root}")
        # Changed bytes may be content that nobody can tell from what was meant.
        if how == "cut" and root not in (None, self.root):
            raise self.finding(f"a {kind} {options} that was cut short gave root {root}, exit 0")

    def failing(self):
        """A call of the system that fails once or for good."""
        if not self.has_trace:
            return
        call = self.rng.choice(("pread64", "pwrite64", "pwrite64", "fsync"))
        when = f"{self.rng.randrange(1, 700 if call != 'fsync' else 3)}{self.rng.choice(('', '', '+'))}"
        shutil.copy(self.at("empty.img"), self.at("target.img"))
        words = self.rng.choice((("deploy", "prepared.vmb#1", "target.img", "--volume", "1"),
                                 ("capture", "full.img", "eio.vmb", "--name", "x", "--volume", "1", "--accept-unready")))
        if os.path.exists(self.at("eio.vmb")):
            os.remove(self.at("eio.vmb"))
        what = f"{call} fails ({when}) in {' '.join(words)}"
        process = subprocess.run(["strace", "-f", "-qq", "-o", "/dev/null", "-e", f"inject={call}:error=EIO:when={when}", self.program, *words],
                                 capture_output=True, cwd=self.folder, timeout=300, text=True)
        if process.returncode not in (0, 3, 4, 5):
            raise self.finding(f"{what}: ended with {process.returncode}: {process.stderr[-1000:]}")
        if words[0] == "capture":
            if process.returncode == 0:
                _, out, _ = self.run("list", "eio.vmb", "--json")
                if json.loads(out)["images"][0]["root"] != self.root:
                    raise self.finding(f"{what}: another root, exit 0")
            return
        if process.returncode == 0:
            if self.root_of("target.img") != self.root:
                raise self.finding(f"{what}: exit 0, and the volume is not the image")
        elif "Run the same command again to go on" in process.stderr and "chkdsk" not in process.stderr:
            self.must(*words)
            if self.root_of("target.img") != self.root:
                raise self.finding(f"{what}: the second run did not give the image")

    def killed_disk(self):
        """A deployment that is killed: a new image, or an erased disk."""
        isnew = self.rng.random() < 0.5
        disk = self.rng.choice(("new.img", "new.qcow2", "new.vhdx")) if isnew else "erased.img"
        for name in (disk, disk + ".unfinished"):
            if os.path.exists(self.at(name)):
                os.remove(self.at(name))
        words = ("deploy", "prepared.vmb#1", disk, "--size", "1100 MiB") if isnew \
            else ("deploy", "prepared.vmb#1", disk, "--erase", "--confirm", disk, "--layout", self.rng.choice(("uefi", "bios")))
        if not isnew:
            with open(self.at(disk), "wb") as file:
                file.truncate(1100 << 20)
        process = subprocess.Popen([self.program, *words, "--accept-misfit"], cwd=self.folder, stdout=subprocess.DEVNULL,
                                   stderr=subprocess.DEVNULL)
        time.sleep(self.rng.random() * 1.5)
        process.send_signal(self.rng.choice((signal.SIGKILL, signal.SIGKILL, signal.SIGTERM)))
        code = process.wait()
        if isnew and code != 0 and os.path.exists(self.at(disk)):
            raise self.finding(f"killed {' '.join(words)}: '{disk}' has its name, exit {code}")
        # One that does not say that it is not finished is whole: it was killed when it was through.
        unmarked = None
        if not isnew and code == -signal.SIGKILL:
            _, out, _ = self.run("survey", disk, "--json")
            found = json.loads(out)
            windows = [v["number"] for v in found.get("volumes", ()) if v["label"] == "Windows"]
            if windows and not any("broken off" in w for w in found["warnings"]):
                unmarked = (windows[0], self.root_of(disk, windows[0]))
        if code != 0:
            self.must(*words, "--accept-misfit")
        if unmarked and self.root_of(disk, unmarked[0]) != unmarked[1]:
            raise self.finding(f"killed {' '.join(words)}: the disk does not say that it is not finished, and is not whole")
        os.remove(self.at(disk))

    def changing(self):
        """A source whose files change while they are read."""
        source = self.at("changing")
        shutil.rmtree(source, ignore_errors=True)
        os.makedirs(source)
        for i in range(30):
            with open(os.path.join(source, f"f{i}"), "wb") as file:
                file.write(bytes([i]) * self.rng.randrange(1, 400000))
        archive = self.at("changing.vmb")
        if os.path.exists(archive):
            os.remove(archive)
        process = subprocess.Popen([self.program, "capture", "changing", "changing.vmb", "--name", "x"], cwd=self.folder,
                                   stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
        while process.poll() is None:
            path = os.path.join(source, f"f{self.rng.randrange(30)}")
            action = self.rng.randrange(3)
            if action == 0:
                os.truncate(path, self.rng.randrange(1000))
            elif action == 1:
                with open(path, "ab") as file:
                    file.write(b"more" * 1000)
            else:
                os.replace(path, path + ".away")
                os.replace(path + ".away", path)
        err = process.communicate()[1].decode(errors="replace")
        if process.returncode not in (0, 3, 5):
            raise self.finding(f"a source that changes: ended with {process.returncode}: {err[-1000:]}")
        if process.returncode == 0 and self.run("verify", "changing.vmb", "--strict")[0] != 0:
            raise self.finding("a source that changes: the archive is not in order")
