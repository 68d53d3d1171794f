#!/usr/bin/env python3
"""Reads archives that Python's zipfile and tarfile wrote, whole and damaged, with both Python and the program, and
tells where they differ. What is whole must come out equal; of what is damaged nothing may be given that Python knows to be
damaged, nothing may be silently left out, and no entry may have other bytes.
usage: differential.py OPERCULUM COUNT [FIRST]      archives FIRST to FIRST + COUNT - 1, each the same at each run"""
import bz2
import gzip
import io
import lzma
import os
import random
import shutil
import subprocess
import sys
import tarfile
import tempfile
import zipfile

WORDS = ["tide", "gauge", "pool", "crab", "\u00e9t\u00e9", "\u6f6e", "a b", "x'y", "kelp.txt", "UPPER", "-dash", "deep"]


def name(lot):
    return "/".join(lot.choice(WORDS) + str(lot.randrange(1000)) for _ in range(lot.randrange(1, 4)))


def data(lot):
    kind, size = lot.randrange(4), lot.choice([0, 1, 100, 5000, 70000])
    if kind == 0:
        return lot.randbytes(size)
    if kind == 1:
        return bytes([lot.randrange(256)]) * size
    return (" ".join(lot.choice(WORDS) for _ in range(size // 5 + 1)).encode())[:size]


class Forward(io.RawIOBase):
    """Cannot be sought: sizes go into data descriptors."""

    def __init__(self):
        self.kept = bytearray()

    def writable(self):
        return True

    def write(self, some):
        self.kept += some
        return len(some)


def make_zip(lot):
    out = Forward() if lot.randrange(3) == 0 else io.BytesIO()
    if lot.randrange(6) == 0 and isinstance(out, io.BytesIO):
        out.write(lot.randbytes(lot.randrange(300)))
    with zipfile.ZipFile(out, "w") as archive:
        for one in sorted({name(lot) for _ in range(lot.randrange(1, 8))}):
            info = zipfile.ZipInfo(one, (2026, lot.randrange(1, 13), 3, 4, 5, 6))
            info.compress_type = lot.choice([0, 8, 8, 12, 14])
            info.external_attr = 0o644 << 16
            with archive.open(info, "w", force_zip64=lot.randrange(4) == 0) as entry:
                entry.write(data(lot))
        archive.comment = lot.randbytes(lot.randrange(30)).replace(b"PK", b"") if lot.randrange(4) == 0 else b""
    return bytes(out.kept if isinstance(out, Forward) else out.getvalue())


def make_tar(lot):
    plain = io.BytesIO()
    form = lot.choice([tarfile.USTAR_FORMAT, tarfile.GNU_FORMAT, tarfile.PAX_FORMAT])
    with tarfile.open(fileobj=plain, mode="w", format=form, encoding="utf-8") as archive:
        for one in ["first.txt", *sorted({name(lot) for _ in range(lot.randrange(1, 8))})]:
            if one != "first.txt" and lot.randrange(6) == 0:
                one += "/" + "long" * lot.randrange(20, 40)
            bytes_of = data(lot)
            info = tarfile.TarInfo(one)
            info.size, info.mtime = len(bytes_of), 1770000000
            try:
                archive.addfile(info, io.BytesIO(bytes_of))
            except ValueError:
                pass  # a name that this form has no room for
    pack = lot.choice([bytes, gzip.compress, bz2.compress, lzma.compress])
    return pack(plain.getvalue())


def damaged(lot, whole):
    some = bytearray(whole)
    if lot.randrange(4) == 0:
        return bytes(some[:lot.randrange(1, len(some) + 1)])
    for _ in range(lot.randrange(1, 4)):
        some[lot.randrange(len(some))] ^= 1 << lot.randrange(8)
    return bytes(some)


def by_python(kind, archive):
    """Names and bytes, None for what is damaged; nothing when it cannot be listed."""
    found = {}
    try:
        if kind == "zip":
            with zipfile.ZipFile(io.BytesIO(archive)) as opened:
                for info in opened.infolist():
                    try:
                        found[info.filename] = opened.read(info)
                    except UnicodeDecodeError:
                        pass  # the second copy of the name; the directory's is believed
                    except Exception as error:
                        if "File name in directory" not in str(error):
                            found[info.filename] = None
        else:
            with tarfile.open(fileobj=io.BytesIO(archive)) as opened:
                for info in opened:
                    if info.isreg():
                        found[info.name] = opened.extractfile(info).read()
    except Exception:
        return found if kind == "tar" and found else None
    return found


def by_program(program, archive, folder):
    """Names and bytes of what was written, the exit code, what was said."""
    out = os.path.join(folder, "out")
    shutil.rmtree(out, ignore_errors=True)
    ran = subprocess.run([program, "unpack", "--into", out, archive], capture_output=True, timeout=60)
    found = {}
    for root, _, files in os.walk(out):
        for file in files:
            path = os.path.join(root, file)
            with open(path, "rb") as opened:
                found[os.path.relpath(path, out)] = opened.read()
    return found, ran.returncode, ran.stderr.decode("utf-8", "replace")


def compare(whole, expected, found, code, said):
    """What is wrong, in words; empty where nothing is."""
    if code not in (0, 1, 3):
        return f"exit code {code}: {said}"
    if whole:
        if code != 0:
            return f"a whole archive ends with {code}: {said}"
        return "" if found == expected else f"differs: {sorted(set(expected.items()) ^ set(found.items()))[:2]}"
    if expected is None:
        return ""
    for one, bytes_of in expected.items():
        if one in found and bytes_of is None and code == 0:
            return f"{one!r} is damaged, which was not told"
        if one in found and bytes_of is not None and found[one] != bytes_of and code == 0:
            return f"{one!r} has other bytes"
        if one not in found and bytes_of is not None and code == 0:
            return f"{one!r} was left out without a word"
    return ""


def main():
    program, count = os.path.abspath(sys.argv[1]), int(sys.argv[2])
    first = int(sys.argv[3]) if len(sys.argv) > 3 else 1
    wrong = 0
    with tempfile.TemporaryDirectory() as folder:
        for number in range(first, first + count):
            lot = random.Random(number)
            kind = lot.choice(["zip", "tar"])
            made = make_zip(lot) if kind == "zip" else make_tar(lot)
            whole = lot.randrange(3) == 0
            if not whole:
                made = damaged(lot, made)
            archive = os.path.join(folder, "archive.bin")
            with open(archive, "wb") as opened:
                opened.write(made)
            told = compare(whole, by_python(kind, made), *by_program(program, archive, folder))
            if told:
                wrong += 1
                print(f"{number} ({kind}, {'whole' if whole else 'damaged'}): {told}")
    print(f"{count - wrong} of {count} agree")
    return 1 if wrong else 0


sys.exit(main())
