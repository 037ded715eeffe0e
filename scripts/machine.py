"""A Debian in a virtual machine: making it, starting it, talking to it, cutting its power."""

import atexit
import hashlib
import json
import os
import re
import shutil
import signal
import socket
import struct
import subprocess
import tempfile
import time
from pathlib import Path

PROJECT = Path(__file__).resolve().parent.parent
PLACE = PROJECT / "target" / "machines"
SUITE = "bookworm"
MIRROR = "http://deb.debian.org/debian"
PACKAGES = (
    "systemd-sysv dbus openssh-server sudo cron at login libpam-modules libpam-systemd "
    "linux-image-cloud-amd64 iproute2 kmod udev attr selinux-policy-default policycoreutils "
    "selinux-utils e2fsprogs xfsprogs btrfs-progs"
).split()
# What is loaded before the root file system is: ext4 is built in.
MODULES = {
    "ext4": ["crc32c_intel", "virtio_pci", "virtio_blk", "virtio_net"],
    "xfs": ["crc32c_intel", "virtio_pci", "virtio_blk", "virtio_net", "xfs"],
    "btrfs": ["crc32c_intel", "virtio_pci", "virtio_blk", "virtio_net", "btrfs"],
}


class Hangs(Exception):
    """The machine did not come to where it should in time."""


def run(*words, **options):
    """Runs a command of this machine; what it says is part of the error."""
    done = subprocess.run(
        [str(word) for word in words], text=True, capture_output=True, check=False, **options
    )
    if done.returncode != 0:
        shown = " ".join(str(word) for word in words)
        raise RuntimeError(f"{shown}: {done.returncode}\n{done.stdout}{done.stderr}")
    return done.stdout


def inside(root, *words):
    """Runs a command of another system, on that."""
    environment = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "DEBIAN_FRONTEND": "noninteractive"}
    return run("chroot", root, *words, env=environment)


def lacking():
    """What this machine lacks for trying others; nothing where it has all."""
    if os.geteuid() != 0:
        return "root"
    programs = "qemu-system-x86_64 mmdebstrap mke2fs cpio busybox lz4 ssh ssh-keygen".split()
    missing = next((program for program in programs if not shutil.which(program)), None)
    if not missing and subprocess.run(["ldd", shutil.which("busybox")], capture_output=True, check=False).returncode == 0:
        # What starts the machine has no library beside it.
        missing = "static busybox"
    return missing


def can_make(file_system):
    """Whether this machine can make such a file system."""
    return shutil.which({"ext4": "mke2fs"}.get(file_system, f"mkfs.{file_system}")) is not None


def base():
    """The folder with a Debian, made once."""
    root = PLACE / "root"
    stamp = PLACE / "packages"
    wanted = " ".join(PACKAGES)
    if not stamp.exists() or stamp.read_text() != wanted:
        print("making a Debian …", flush=True)
        shutil.rmtree(root, ignore_errors=True)
        PLACE.mkdir(parents=True, exist_ok=True)
        run("mmdebstrap", "--variant=minbase", f"--include={','.join(PACKAGES)}", SUITE, root, MIRROR)
        stamp.write_text(wanted)
    return root


def kernel(root):
    """The kernel without its packing: unpacking it takes an emulated processor ten seconds."""
    packed = max((root / "boot").glob("vmlinuz-*"))
    plain = PLACE / f"{packed.name}.plain"
    if not plain.exists():
        data = packed.read_bytes()
        # What follows the packed part makes lz4 complain at the end.
        packing = data[data.index(b"\x02\x21\x4c\x18") :]
        unpacked = subprocess.run(["lz4", "-dc"], input=packing, capture_output=True, check=False)
        if not unpacked.stdout.startswith(b"\x7fELF"):
            raise RuntimeError(f"{packed} can't be unpacked: {unpacked.stderr.decode()}")
        plain.write_bytes(unpacked.stdout)
    return plain, packed.name.removeprefix("vmlinuz-")


INIT = """#!/busybox sh
/busybox mkdir -p /proc /dev /root
/busybox mount -t proc none /proc
/busybox mount -t devtmpfs none /dev
for module in /modules/*; do /busybox insmod $module; done
/busybox mount -o FLAGS -t TYPE /dev/vda /root || exec /busybox sh
/busybox mount --move /dev /root/dev
/busybox umount /proc
exec /busybox switch_root /root /sbin/init
"""


def initrd(root, version, file_system):
    """What loads the drivers and mounts the root file system."""
    made = PLACE / f"initrd-{version}-{file_system}"
    with tempfile.TemporaryDirectory() as folder:
        folder = Path(folder)
        (folder / "modules").mkdir()
        shutil.copy(shutil.which("busybox"), folder / "busybox")
        count = 0
        known = set()
        for module in MODULES[file_system]:
            shown = inside(root, "modprobe", "-S", version, "-D", module)
            for line in shown.splitlines():
                words = line.split()
                if words[0] == "insmod" and words[1] not in known:
                    known.add(words[1])
                    shutil.copy(f"{root}{words[1]}", folder / "modules" / f"{count:02}.ko")
                    count += 1
        init = INIT.replace("TYPE", file_system).replace("FLAGS", "rw")
        (folder / "init").write_text(init)
        (folder / "init").chmod(0o755)
        packed = "find . | cpio -o -H newc --quiet"
        made.write_bytes(
            subprocess.run(packed, shell=True, cwd=folder, check=True, capture_output=True).stdout
        )
    return made


TERMINAL = """[Unit]
After=systemd-user-sessions.service
[Service]
ExecStart=-/sbin/agetty {options} --noclear --keep-baud 115200 {line} vt220
UtmpIdentifier={line}
TTYPath=/dev/{line}
Restart=always
[Install]
WantedBy=multi-user.target
"""
UNITS = {
    # A root shell for the one who tries, a login for those who are tried.
    "line-of-root.service": TERMINAL.format(options="--autologin root", line="ttyS0"),
    "line-of-people.service": TERMINAL.format(options="", line="ttyS1"),
    "network.service": "[Unit]\nBefore=ssh.service\n[Service]\nType=oneshot\n"
    "ExecStart=/sbin/ip link set lo up\nExecStart=/sbin/ip link set eth0 up\n"
    "ExecStart=/sbin/ip addr add 10.0.2.15/24 dev eth0\nRemainAfterExit=yes\n"
    "[Install]\nWantedBy=multi-user.target\n",
}
MASKED = (
    "serial-getty@ttyS0.service getty@tty1.service systemd-udev-trigger.service systemd-networkd.service systemd-timesyncd.service "
    "apt-daily.timer apt-daily-upgrade.timer dpkg-db-backup.timer e2scrub_all.timer "
    "e2scrub_reap.service fstrim.timer selinux-autorelabel-mark.service"
).split()


class Image:
    """The disk of a machine, with the package installed."""

    def __init__(self, file_system, deb, labels=False):
        self.file_system = file_system
        self.labels = labels
        self.path = PLACE / f"{file_system}{'-labels' if labels else ''}.image"
        self.key = PLACE / "key"
        PLACE.mkdir(parents=True, exist_ok=True)
        if not self.key.exists():
            run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", self.key)
        root = base()
        self.kernel, version = kernel(root)
        self.initrd = initrd(root, version, file_system)
        # On a disk: not every overlay tells of the labels that files in it have.
        system = PLACE / "system"
        shutil.rmtree(system, ignore_errors=True)
        run("cp", "-a", root, system)
        try:
            self._furnish(system, deb)
            self._fill(system)
        finally:
            shutil.rmtree(system)

    def _furnish(self, system, deb):
        run("mount", "-t", "proc", "none", system / "proc")
        try:
            self._install(system, deb)
        finally:
            run("umount", system / "proc")

    def _install(self, system, deb):
        shutil.copy(deb, system / "tmp" / "package.deb")
        inside(system, "dpkg", "-i", "/tmp/package.deb")
        (system / "etc/hostname").write_text("skerry\n")
        (system / "etc/hosts").write_text("127.0.0.1 localhost skerry\n")
        (system / "etc/fstab").write_text("")
        keys = system / "root/.ssh"
        keys.mkdir(mode=0o700, exist_ok=True)
        shutil.copy(f"{self.key}.pub", keys / "authorized_keys")
        (keys / "authorized_keys").chmod(0o600)
        shutil.copy(f"{self.key}.pub", system / "root/key.pub")
        units = system / "etc/systemd/system"
        for name, text in UNITS.items():
            (units / name).parent.mkdir(parents=True, exist_ok=True)
            (units / name).write_text(text)
        inside(system, "systemctl", "enable", *UNITS)
        inside(system, "systemctl", "mask", *MASKED)
        if self.labels:
            (system / "etc/selinux/config").write_text("SELINUX=enforcing\nSELINUXTYPE=default\n")
            contexts = "/etc/selinux/default/contexts/files/file_contexts"
            # Of the folders that are mounted over by then only they themselves are labelled.
            but = [word for path in ("/proc", "/sys", "/dev") for word in ("-e", path)]
            inside(system, "setfiles", "-F", *but, contexts, "/")

    def _fill(self, system):
        self.path.unlink(missing_ok=True)
        if self.file_system == "ext4":
            run("mke2fs", "-q", "-t", "ext4", "-d", system, self.path, "1500M")
            return
        with open(self.path, "wb") as image:
            image.truncate(1500 << 20)
        run(f"mkfs.{self.file_system}", "-q", self.path)
        with tempfile.TemporaryDirectory() as folder:
            run("mount", "-o", "loop", self.path, folder)
            try:
                run("cp", "-a", f"{system}/.", folder)
            finally:
                run("umount", folder)

    def copy(self):
        """Another disk with the same on it."""
        path = self.path.with_suffix(".copy")
        run("sync")
        run("cp", "--sparse=always", self.path, path)
        return path


class Console:
    """What is at one end of a serial line."""

    def __init__(self, path, patience):
        self.read = b""
        self.socket = socket.socket(socket.AF_UNIX)
        end = time.time() + patience
        while True:
            try:
                self.socket.connect(str(path))
                return
            except OSError:
                if time.time() > end:
                    raise Hangs("the virtual machine did not start") from None
                time.sleep(0.1)

    def send(self, text):
        self.socket.sendall(text.encode())

    def expect(self, pattern, patience=60):
        """Waits until the machine says something of this form; returns all up to there."""
        end = time.time() + patience
        while not (found := re.search(pattern.encode(), self.read)):
            self.socket.settimeout(max(0.1, end - time.time()))
            try:
                more = self.socket.recv(65536)
            except TimeoutError:
                more = b""
            if not more or time.time() > end:
                tail = self.read[-400:].decode(errors="replace")
                raise Hangs(f"no {pattern!r} within {patience} s; it hung at:\n{tail}")
            self.read += more
        said, self.read = self.read[: found.end()], self.read[found.end() :]
        return said.decode(errors="replace")


def free_port():
    """A port of the loopback that nobody listens on."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]


class Machine:
    """A machine that runs."""

    def __init__(self, image, disk, patience=120, log=None):
        """`log`: a file that takes every write to the disk, and where it was flushed."""
        self.image, self.disk, self.port = image, disk, free_port()
        self.folder = Path(tempfile.mkdtemp(prefix="machine-"))
        lines = []
        for at in range(2):
            path = self.folder / f"line{at}"
            lines += ["-chardev", f"socket,id=line{at},path={path},server=on,wait=off"]
            lines += ["-serial", f"chardev:line{at}"]
        words = "root=/dev/vda rw console=ttyS0 quiet mitigations=off random.trust_cpu=on net.ifnames=0"
        if image.labels:
            words += " security=selinux selinux=1 enforcing=1"
        drive = ["-drive", f"file={disk},format=raw,if=virtio,cache=none"]
        if log:
            Path(log).write_bytes(b"")
            file = {"driver": "file", "filename": str(disk), "cache": {"direct": True}}
            logged = {"driver": "blklogwrites", "node-name": "disk", "log-sector-size": 512,
                      "file": {"driver": "raw", "file": file},
                      "log": {"driver": "file", "filename": str(log)}}
            drive = ["-blockdev", json.dumps(logged), "-device", "virtio-blk-pci,drive=disk"]
        begun = time.time()
        self.process = subprocess.Popen(
            [
                "qemu-system-x86_64", "-M", "q35", "-nodefaults", "-display", "none",
                "-accel", "tcg,thread=multi,tb-size=256", "-cpu", "Nehalem", "-smp", "2",
                "-m", "512", "-kernel", str(image.kernel), "-initrd", str(image.initrd),
                "-append", words,
                *drive,
                "-netdev", f"user,id=net,restrict=on,hostfwd=tcp:127.0.0.1:{self.port}-:22",
                "-device", "virtio-net-pci,netdev=net,romfile=", *lines,
            ],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=open(self.folder / "errors", "wb"),
        )
        self.patience = patience
        atexit.register(self.process.kill)
        try:
            self.shell = Console(self.folder / "line0", patience)
            self.login = Console(self.folder / "line1", patience)
            self._prompt()
        except (Hangs, OSError) as hung:
            said = (self.folder / "errors").read_text()
            self.cut()
            raise Hangs(f"{hung}\n{said}".strip()) from None
        self.boot_seconds = time.time() - begun

    def _prompt(self):
        self.shell.expect(r"root@\S+:~# ", self.patience)
        self.shell.send("stty -echo; PS1=; PS2=; export PAGER=cat SYSTEMD_PAGER=cat TERM=dumb; unset PROMPT_COMMAND; bind 'set enable-bracketed-paste off' 2>/dev/null; echo READY-$((40+2))\n")
        self.shell.expect("READY-42\r?\n")

    def run(self, command, patience=120):
        """Runs a command as root; returns its status and what it said."""
        self.shell.send(f"{{ {command}\n}} 2>&1; echo \"<<$?>>\"\n")
        said = self.shell.expect(r"<<(\d+)>>\r?\n", patience).replace("\r\n", "\n")
        status = int(re.search(r"<<(\d+)>>\s*$", said).group(1))
        return status, re.sub(r"<<\d+>>\s*$", "", said)

    def ssh(self, user, *command, password=None, patience=60):
        """Signs in over the network, by key or by password; returns status and output."""
        words = ["ssh", "-q", "-p", str(self.port), "-o", "StrictHostKeyChecking=no",
                 "-o", "UserKnownHostsFile=/dev/null", "-o", "ConnectTimeout=30"]
        environment = dict(os.environ, DISPLAY=":none")
        if password is None:
            words += ["-i", str(self.image.key), "-o", "BatchMode=yes",
                      "-o", "IdentitiesOnly=yes"]
        else:
            asker = self.folder / "asker"
            asker.write_text(f"#!/bin/sh\necho '{password}'\n")
            asker.chmod(0o700)
            environment |= {"SSH_ASKPASS": str(asker), "SSH_ASKPASS_REQUIRE": "force"}
            words += ["-o", "PubkeyAuthentication=no", "-o", "NumberOfPasswordPrompts=1"]
        words += [f"{user}@127.0.0.1", *command]
        try:
            done = subprocess.run(words, env=environment, text=True, capture_output=True,
                                  stdin=subprocess.DEVNULL, timeout=patience, check=False)
        except subprocess.TimeoutExpired:
            return 124, "no answer"
        return done.returncode, done.stdout + done.stderr

    def wait_for_ssh(self):
        """Waits until somebody can sign in over the network."""
        end = time.time() + self.patience
        while self.ssh("root", "true")[0] != 0:
            if time.time() > end:
                raise Hangs(f"nobody can sign in over the network:\n{self.ssh('root', 'true')[1]}")
            time.sleep(0.5)

    def reboot(self):
        """Starts it anew, as its administrator would."""
        self.shell.send("systemctl reboot\n")
        self._prompt()
        self.login.read = b""

    def cut(self):
        """Takes the power away."""
        self.process.send_signal(signal.SIGKILL)
        self.process.wait()
        shutil.rmtree(self.folder, ignore_errors=True)

    def off(self):
        """Shuts it down."""
        self.shell.send("systemctl poweroff\n")
        try:
            self.process.wait(60)
        except subprocess.TimeoutExpired:
            pass
        self.cut()


class WriteLog:
    """What was written to a disk, in the order in which it was, and where it was flushed: the
    format of the kernel's log-writes target, which qemu's blklogwrites writes too."""

    FLUSH, DISCARD, MARK = 1, 4, 8

    def __init__(self, path):
        self.file = open(path, "rb")
        _, _, self.entries, self.sector = struct.unpack("<QQQI", self.file.read(28))

    def states(self):
        """Each write as (place, bytes), and None where all before it was flushed."""
        self.file.seek(self.sector)
        for _ in range(self.entries):
            place, count, flags, length = struct.unpack("<QQQQ", self.file.read(32))
            self.file.seek(self.sector - 32, 1)
            if flags & self.FLUSH:
                yield None
            if flags & self.DISCARD:
                continue
            if not flags & self.MARK and count:
                yield place * self.sector, self.file.read(count * self.sector)


def fault_of(disk):
    """What is wrong with a disk as it was at some moment, once the program has been at it."""
    with tempfile.TemporaryDirectory() as folder:
        copy = Path("/dev/shm/machine.tried")
        run("cp", "--sparse=always", disk, copy)
        # Two of one kind are not mounted at once.
        run("mount", "-o", "loop", copy, folder)
        try:
            for words in ("recover --yes", "check --fail-on error --files-only",
                          "create group tried", "check --fail-on error --files-only"):
                words = f"copper-nest {words}".split()
                done = subprocess.run(["chroot", folder, *words], text=True, capture_output=True,
                                      check=False)
                if done.returncode != 0:
                    yield f"{' '.join(words)}: {done.returncode} {done.stdout}{done.stderr}"
        finally:
            run("umount", folder)
            copy.unlink()


def digest(path):
    """The SHA-256 of a file, to say what was tried."""
    return hashlib.sha256(Path(path).read_bytes()).hexdigest()
