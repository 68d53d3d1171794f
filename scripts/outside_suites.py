"""Compares the program with what other people's test suites expect. Called by outside-suites.sh."""
import configparser
import glob
import hashlib
import json
import lzma
import gzip
import os
import re
import subprocess
import sys
import tarfile
import tempfile
import zipfile

tool, suites = sys.argv[1:]
CODES = {0, 1, 3, 4, 5}
rows = []


def run(*words, timeout=60):
    try:
        done = subprocess.run([tool, *words], capture_output=True, timeout=timeout)
        return done.returncode, done.stdout.decode("utf-8", "replace"), done.stderr.decode("utf-8", "replace")
    except subprocess.TimeoutExpired:
        return -1, "", "no end within a minute"


def row(suite, what, inputs, well, wrong):
    rows.append((suite, what, inputs, well))
    for one in wrong:
        print(f"  {suite}: {one}", file=sys.stderr)


def unpacked(path, folder):
    opener = lzma.open if path.endswith(".xz") else gzip.open
    name = os.path.join(folder, os.path.basename(path).rsplit(".", 1)[0])
    with opener(path) as packed, open(name, "wb") as out:
        while block := packed.read(1 << 20):
            out.write(block)
    return name


# Types that the suite names, and the formats that open them.
OPENED = {"ext2": "ext", "ext3": "ext", "ext4": "ext", "vfat": "fat", "exfat": "exfat", "ntfs": "ntfs", "hfsplus": "hfsplus",
          "iso9660": "iso9660", "udf": "udf", "squashfs": "squashfs", "erofs": "erofs", "cramfs": "cramfs", "romfs": "romfs",
          "jffs2": "jffs2", "ubi": "ubi", "ubifs": "ubifs"}


def util_linux():
    images = sorted(glob.glob(f"{suites}/util-linux/tests/ts/blkid/images-fs/*.img.xz"))
    named = wrong_names = 0
    wrong = []
    opened = openable = 0
    with tempfile.TemporaryDirectory() as folder:
        for packed in images:
            stem = os.path.basename(packed)[:-len(".img.xz")]
            expected_file = f"{suites}/util-linux/tests/expected/blkid/low-probe-{stem}"
            if not os.path.exists(expected_file):
                continue
            expected = dict(line.split("=", 1) for line in open(expected_file, errors="replace").read().splitlines() if "=" in line)
            kind = expected.get("ID_FS_TYPE", "")
            image = unpacked(packed, folder)
            code, out, err = run("identify", "--json", image)
            os.unlink(image)
            if code not in CODES:
                wrong.append(f"{stem}: exit code {code} {err.strip()}")
                continue
            told = out.lower()
            format_id = OPENED.get(kind)
            record = json.loads(out.splitlines()[0]) if out else {}
            if format_id:
                openable += 1
                if format_id in json.dumps(record.get("layers", record)).lower():
                    opened += 1
                else:
                    wrong.append(f"{stem}: {kind} is not recognised")
            uuid = expected.get("ID_FS_UUID", "").lower()
            label = expected.get("ID_FS_LABEL", "").lower()
            if kind and (kind.lower() in told or format_id or (uuid and uuid in told) or (label and label in told)):
                named += 1
            else:
                wrong_names += 1
                wrong.append(f"{stem}: nothing is said of {kind}")
    row("util-linux, images of file systems", "the type that its tests expect is named", named + wrong_names, named, wrong)
    row("util-linux, images of file systems", "those of types that are opened are recognised", openable, opened, [])


def e2fsprogs():
    images = sorted(glob.glob(f"{suites}/e2fsprogs/tests/*/image.gz"))
    well, wrong = 0, []
    with tempfile.TemporaryDirectory() as folder:
        for packed in images:
            image = unpacked(packed, folder)
            code, _, err = run("verify", image)
            os.unlink(image)
            if code in CODES:
                well += 1
            else:
                wrong.append(f"{packed.split('/')[-2]}: exit code {code} {err.strip()[-200:]}")
    row("e2fsprogs, damaged images", "verify ends with a result or a clear error", len(images), well, wrong)


def names_by_python(path):
    """The members of an archive; None where Python's own modules refuse it."""
    for opener, names in ((zipfile.ZipFile, lambda a: a.namelist()), (tarfile.open, lambda a: a.getnames())):
        try:
            with opener(path) as archive:
                return [name.rstrip("/") for name in names(archive)]
        except Exception:
            continue
    return None


def plain(name):
    return re.sub(r"^(\./|/)+", "", name).rstrip("/")


def archives(suite, patterns):
    files = sorted({f for p in patterns for f in glob.glob(f"{suites}/{p}", recursive=True) if os.path.isfile(f)})
    ended, compared, same, wrong = 0, 0, 0, []
    for path in files:
        code, out, err = run("list", "--json", path)
        if code in CODES and run("verify", path)[0] in CODES:
            ended += 1
        else:
            wrong.append(f"{os.path.basename(path)}: exit code {code} {err.strip()[-200:]}")
        theirs = names_by_python(path)
        if theirs is None or code != 0:
            continue
        compared += 1
        ours = [json.loads(line).get("path") for line in out.splitlines() if '"record"' in line]
        ours = sorted({plain(name) for name in ours if name} - {""})
        if ours == sorted({plain(name) for name in theirs} - {"", "."}):
            same += 1
        else:
            wrong.append(f"{os.path.basename(path)}: the names differ from those that Python gives")
    row(suite, "list and verify end with a result or a clear error", len(files), ended, wrong)
    row(suite, "names are those that Python's modules give, where they open it", compared, same, [])


def digest_of(path):
    digest = hashlib.sha256()
    with open(path, "rb") as file:
        while block := file.read(1 << 20):
            digest.update(block)
    return digest.hexdigest()


def decrypted(image, folder, secret):
    """The digest of the disk in an encrypted volume."""
    key, out = os.path.join(folder, "key"), os.path.join(folder, "out.raw")
    with open(key, "w") as file:
        file.write(secret)
    code, _, err = run("convert", image, "--as", "raw", "--into", out, "--password-file", key, timeout=300)
    if code != 0:
        return err.strip()[-200:]
    try:
        return digest_of(out)
    finally:
        os.unlink(out)


def cryptsetup():
    tests = f"{suites}/cryptsetup/tests"
    tried, well, wrong = 0, 0, []
    with tempfile.TemporaryDirectory() as folder:
        for name in ("bitlk-images", "fvault2-images"):
            with tarfile.open(f"{tests}/{name}.tar.xz") as packed:
                packed.extractall(folder, filter="data")
        cases = configparser.ConfigParser()
        cases.read(f"{folder}/bitlk-images/images.conf")
        wanted = [(f"bitlk-images/{one}.img", cases[one][key], cases[one]["SHA256SUM"]) for one in cases.sections()
                  for key in ("PW", "RP") if cases[one].get(key) and cases[one].get("SHA256SUM")]
        script = open(f"{tests}/fvault2-compat-test").read()
        wanted.append(("fvault2-images/small", re.search(r'^PWD="(.*)"', script, re.M).group(1),
                       re.search(r"^check_sha256 (\w+)", script, re.M).group(1)))
        for image, secret, digest in wanted:
            tried += 1
            found = decrypted(f"{folder}/{image}", folder, secret)
            if found == digest:
                well += 1
            else:
                wrong.append(f"{image}: {found}")
    row("cryptsetup, encrypted volumes of desktop systems", "the disk within has the digest that its tests expect", tried, well, wrong)


def dynamic_disks():
    tried, well, wrong = 0, 0, []
    with tempfile.TemporaryDirectory() as folder:
        with tarfile.open(f"{suites}/libldm/test/data/ldm-data.tar.xz") as packed:
            packed.extractall(folder, filter="data")
        for group in ("2003r2", "2008r2"):
            member = sorted(glob.glob(f"{folder}/ldm-{group}-*.img"))[0]
            _, out, _ = run("list", "--json", member)
            for volume in [json.loads(line)["path"] for line in out.splitlines() if json.loads(line).get("path")]:
                tried += 1
                _, verified, err = run("verify", f"{member}/{volume}/test.txt")
                if "No faults" in verified + err:
                    well += 1
                else:
                    wrong.append(f"{group} {volume}: {(verified + err).strip()[-200:]}")
    row("libldm, groups of dynamic disks", "the file in each volume is read", tried, well, wrong)


util_linux()
e2fsprogs()
if os.path.isdir(f"{suites}/cryptsetup"):
    cryptsetup()
if os.path.isdir(f"{suites}/libldm"):
    dynamic_disks()
archives("CPython, test archives", ["libpython3.11-testsuite/**/*.tar", "libpython3.11-testsuite/**/*.zip",
                                    "libpython3.11-testsuite/**/*.gz", "libpython3.11-testsuite/**/*.xz",
                                    "libpython3.11-testsuite/**/*.bz2"])
archives("Go, archive and compress test data", ["golang-1.19-src/**/archive/*/testdata/*", "golang-1.19-src/**/compress/*/testdata/*",
                                                "golang-1.19-src/**/debug/*/testdata/*"])
print("| suite | compared | inputs | as expected |\n|---|---|---|---|")
for one in rows:
    print("| {} | {} | {} | {} |".format(*one))
