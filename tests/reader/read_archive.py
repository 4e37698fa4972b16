#!/usr/bin/env python3
"""Reads a .vmb archive from docs/archive-format.md alone: lists all paths of an image, or prints a file.

    read_archive.py ARCHIVE list NUMBER
    read_archive.py ARCHIVE print NUMBER PATH

Written without looking at the program's code, with no package; zstd frames go through zstd(1). Hashes and checksums are
not checked here: that is the program's work.
"""
import json
import os
import struct
import subprocess
import sys

MAGIC = bytes([0x89, 0x56, 0x4D, 0x42, 0x0D, 0x0A, 0x1A, 0x0A])


class Bytes:
    def __init__(self, data):
        self.data, self.at = data, 0

    def take(self, count):
        piece = self.data[self.at:self.at + count]
        if len(piece) < count:
            raise ValueError(f"{count} bytes are wanted at {self.at}, {len(piece)} are there")
        self.at += count
        return piece

    def number(self):
        value = shift = 0
        while True:
            part = self.take(1)[0]
            value |= (part & 0x7F) << shift
            shift += 7
            if part < 0x80:
                return value

    def fixed(self, form):
        return struct.unpack("<" + form, self.take(struct.calcsize("<" + form)))

    def block(self):
        return self.take(self.number())

    def text(self):
        return self.block().decode("utf-8", "surrogatepass")


class Archive:
    def __init__(self, path):
        self.file = open(path, "rb")
        head = self.file.read(52)
        if head[:8] != MAGIC:
            raise ValueError("not an archive")
        self.format = struct.unpack_from("<H", head, 8)[0]
        if self.format not in (1, 2):
            raise ValueError("a newer archive")
        self.id = head[16:32]
        self.bases = []
        sections = Bytes(self.at(52, struct.unpack_from("<I", head, 12)[0] - 52))
        for _ in range(struct.unpack_from("<I", head, 48)[0]):
            kind, flags, length = sections.fixed("HHI")
            section = sections.take(length)
            if kind == 1:
                name = os.path.basename(section[16:].decode())
                base = Archive(os.path.join(os.path.dirname(os.path.abspath(path)), name))
                if base.id != section[:16]:
                    raise ValueError(f"{name} is another archive")
                self.bases.append(base)
            elif flags & 1:
                raise ValueError("a section that is not known")
        self.expanded = {}
        commit = self.last_commit()
        self.chunks = {}
        place, length = struct.unpack_from("<qq", commit, 40)
        self.read_segment(place, length)
        records = self.catalogue(commit[72:104])
        self.images = {number: json.loads(self.chunk(bytes.fromhex(record))) for number, record in records.items()}

    def at(self, place, length):
        self.file.seek(place)
        return self.file.read(length)

    def last_commit(self):
        step, magic = (64, b"VMBCOMIT") if self.format == 1 else (256, b"VBLKSTAT")
        self.file.seek(0, 2)
        place = (self.file.tell() - 192) // step * step
        while place > 0:
            record = self.at(place, 192)
            if record[:8] == magic and record[8:24] == self.id and struct.unpack_from("<q", record, 32)[0] == place:
                return record
            place -= step
        raise ValueError("no complete state")

    def catalogue(self, id):
        catalogue = json.loads(self.chunk(id))
        records = self.catalogue(bytes.fromhex(catalogue["since"])) if "since" in catalogue else {}
        for number in catalogue.get("gone", []):
            del records[number]
        records.update({i["number"]: i["record"] for i in catalogue["images"]})
        return records

    def read_segment(self, place, length):
        data = self.at(place, length)
        blocks, chunks, earlier = struct.unpack_from("<III", data, 16)
        if data[:4] != b"VIDX":
            raise ValueError("not an index segment")
        for i in range(earlier):
            self.read_segment(*struct.unpack_from("<qq", data, 32 + 24 * i))
        at = 32 + 24 * earlier
        table = [struct.unpack_from("<qIIIBB", data, at + 32 * i) for i in range(blocks)]
        at += 32 * blocks + 4 * 256
        for i in range(chunks):
            block, inside, size = struct.unpack_from("<III", data, at + 44 * i + 32)
            self.chunks[data[at + 44 * i:at + 44 * i + 32]] = (table[block], inside, size)

    def chunk(self, id):
        if id not in self.chunks:
            base = next(b for b in self.bases if b.holds(id))
            return base.chunk(id)
        (place, stored, plain, count, kind, codec), inside, size = self.chunks[id]
        if place not in self.expanded:
            payload = self.at(place + 40 + 4 * count, stored)
            if codec & 0x80:
                key = payload[:8]
                payload = bytes(b ^ key[i % 8] for i, b in enumerate(payload[8:]))
            if codec & 0x7F == 1:
                payload = subprocess.run(["zstd", "-dcq"], input=payload, stdout=subprocess.PIPE, check=True).stdout
            if len(payload) != plain:
                raise ValueError("a block expands to another length")
            self.expanded[place] = payload
        return self.expanded[place][inside:inside + size]

    def holds(self, id):
        return id in self.chunks or any(b.holds(id) for b in self.bases)

    def entries(self, id):
        data = Bytes(self.chunk(id))
        form = data.take(1)
        if form == b"X":
            for _ in range(data.number()):
                data.text()
                page = data.take(32)
                data.number()
                yield from self.entries(page)
            return
        if form != b"F":
            raise ValueError("not a folder")
        for _ in range(data.number()):
            data.take(32)
        for _ in range(data.number()):
            yield self.entry(data)

    def entry(self, data):
        entry = {"name": data.text(), "kind": data.take(1)[0]}
        bits = data.number()
        has = lambda bit: bits >> bit & 1
        if has(0):
            entry["attributes"] = data.number()
        for bit, name in ((1, "modified"), (2, "created"), (3, "changed"), (4, "accessed")):
            if has(bit):
                entry[name], = data.fixed("q")
        if has(5):
            entry["rest"] = data.take(1)[0]
        if has(6):
            entry["content"] = self.content(data)
        if has(7):
            entry["folder"] = data.take(32)
        if has(8):
            entry["target"] = data.text()
        if has(9):
            data.number()
        if has(10):
            data.block()
        if has(11):
            data.text()
        if has(12):
            data.fixed("Q")
        if has(13):
            data.block()
        if has(14):
            self.values(data)
        if has(15):
            for _ in range(data.number()):
                data.text()
                self.content(data)
        if has(16):
            entry["owner"] = (data.number(), data.number(), data.number())
        if has(17):
            self.values(data)
        if has(19):
            entry["compacted"] = data.take(1)[0]
        return entry

    def values(self, data):
        for _ in range(data.number()):
            data.take(1)
            data.text()
            data.block()

    def content(self, data):
        length = data.number()
        if length == 0:
            return []
        form, hash = data.take(1)[0], data.take(32)
        if form == 1:
            return [(length, hash)]
        if form == 3:
            data = Bytes(self.chunk(data.take(32)))
            if data.take(1) != b"L":
                raise ValueError("not a list of parts")
        parts = []
        for _ in range(data.number()):
            number = data.number()
            parts.append((number >> 1, None if number & 1 else data.take(32)))
        return parts

    def walk(self, id, path=""):
        for entry in self.entries(id):
            own = f"{path}/{entry['name']}" if path else entry["name"]
            yield own, entry
            if entry["kind"] == 2:
                yield from self.walk(entry["folder"], own)

    def bytes_of(self, content):
        return b"".join(bytes(length) if id is None else self.chunk(id) for length, id in content)


def main():
    archive = Archive(sys.argv[1])
    root = bytes.fromhex(archive.images[int(sys.argv[3])]["root"])
    out = sys.stdout.buffer
    for path, entry in archive.walk(root):
        if sys.argv[2] == "list" and path:
            size = sum(length for length, _ in entry["content"]) if entry["kind"] == 1 else 0
            out.write(f"{entry['kind']} {size} {path}\n".encode("utf-8", "surrogatepass"))
        elif sys.argv[2] == "print" and path == sys.argv[4]:
            out.write(archive.bytes_of(entry["content"]))


main()
