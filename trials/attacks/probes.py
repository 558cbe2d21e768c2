"""Tries to get out of the place that a step or a process has: one function an attempt, which says whether it got what it
wanted. Prints a line for each, and ends with 1 when one succeeded. Without packages, so that nothing has to be installed."""

import array
import ctypes
import errno
import fcntl
import json
import os
import platform
import resource
import signal
import socket
import struct
import sys

libc = ctypes.CDLL(None, use_errno=True)
HOST = json.load(open(os.path.join(os.path.dirname(os.path.abspath(__file__)), "host.json")))
PROBES = []
NUMBERS = {  # name: (x86_64, aarch64)
    "mount": (165, 40), "umount2": (166, 39), "pivot_root": (155, 41), "move_mount": (429, 429), "open_tree": (428, 428),
    "fsopen": (430, 430), "fsmount": (432, 432), "mount_setattr": (442, 442), "setns": (308, 268), "unshare": (272, 97),
    "clone": (56, 220), "clone3": (435, 435), "ptrace": (101, 117), "process_vm_readv": (310, 270), "pidfd_open": (434, 434),
    "pidfd_getfd": (438, 438), "kcmp": (312, 272), "add_key": (248, 217), "keyctl": (250, 219), "request_key": (249, 218),
    "bpf": (321, 280), "perf_event_open": (298, 241), "userfaultfd": (323, 282), "io_uring_setup": (425, 425),
    "kexec_load": (246, 104), "init_module": (175, 105), "finit_module": (313, 273), "delete_module": (176, 106),
    "reboot": (169, 142), "swapon": (167, 224), "acct": (163, 89), "settimeofday": (164, 170), "clock_settime": (227, 112),
    "clock_adjtime": (305, 266), "syslog": (103, 116), "iopl": (172, None), "ioperm": (173, None), "modify_ldt": (154, None),
    "quotactl": (179, 60), "fanotify_init": (300, 262), "open_by_handle_at": (304, 265), "sethostname": (170, 161),
    "vhangup": (153, 58), "process_madvise": (440, 440), "statmount": (457, 457), "listmount": (458, 458), "personality": (135, 92),
}
MACHINE = 0 if platform.machine() == "x86_64" else 1


def probe(function):
    PROBES.append(function)
    return function


def call(name, *arguments):
    """The result of a system call, or -1; the machine may not have it."""
    number = NUMBERS[name][MACHINE]
    if number is None:
        return -1
    converted = [ctypes.c_char_p(a) if isinstance(a, bytes) else ctypes.c_long(a) if isinstance(a, int) else a for a in arguments]
    return libc.syscall(ctypes.c_long(number), *converted)


def succeeds(name, *arguments):
    return call(name, *arguments) >= 0


def in_child(function):
    """Whether the function says yes, in a process of its own: what it does may be the end of it."""
    child = os.fork()
    if child == 0:
        try:
            os._exit(7 if function() else 0)
        except BaseException:
            os._exit(0)
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 7


def calls(name, *arguments):
    """A probe that succeeds when the call does."""
    def attempt():
        return in_child(lambda: succeeds(name, *arguments))
    attempt.__name__ = f"call_{name}"
    PROBES.append(attempt)


def readable(path):
    try:
        with open(path, "rb") as file:
            return len(file.read(1 << 16)) > 0
    except OSError:
        return False


def writable(path, text=b"x"):
    try:
        with open(path, "r+b", buffering=0) as file:
            file.write(text)
        return True
    except OSError:
        return False


@probe
def inherit_open_files():
    def leads(number):
        try:
            return os.readlink(f"/proc/self/fd/{number}")
        except OSError:  # the folder that was listed
            return "/proc"
    opened = [leads(name) for name in os.listdir("/proc/self/fd") if int(name) > 2]
    # First of all, since other attempts open files themselves.
    return any(not place.startswith(("/proc", "/app")) for place in opened)

# Files of the machine

@probe
def read_a_file_of_the_host(): return any(readable(path) for path in HOST["files"])

@probe
def list_a_folder_of_the_host(): return any(os.path.isdir(path) for path in HOST["folders"])

@probe
def read_the_hosts_passwords(): return readable("/etc/shadow") and "!" not in open("/etc/shadow").read(200)

@probe
def read_through_the_root_of_pid_1(): return any(readable("/proc/1/root" + path) for path in HOST["files"])

@probe
def read_through_the_folder_of_pid_1(): return any(readable("/proc/1/cwd" + path) for path in HOST["files"])

@probe
def find_host_paths_in_mounts():
    text = open("/proc/self/mountinfo").read()
    sources = [line.split(" - ")[1] for line in text.splitlines()]
    return any(folder in source for folder in HOST["folders"] for source in sources)

@probe
def leave_by_chroot():
    def leave():
        os.mkdir("/tmp/deep")
        here = os.open("/", os.O_RDONLY)
        os.chroot("/tmp/deep")
        os.fchdir(here)
        for _ in range(64):
            os.chdir("..")
        os.chroot(".")
        return any(readable(path) for path in HOST["files"])
    return in_child(leave)

@probe
def change_the_program_itself():
    return writable("/proc/1/exe") or readable("/proc/1/exe")

@probe
def make_a_block_device():
    os.mknod("/tmp/disk", 0o60666, os.makedev(8, 0))
    return True

@probe
def make_a_character_device():
    os.mknod("/tmp/memory", 0o20666, os.makedev(1, 1))
    return readable("/tmp/memory")

@probe
def open_memory(): return readable("/dev/mem") or readable("/dev/kmem") or readable("/dev/port")

@probe
def open_other_devices():
    kept = {"null", "zero", "full", "random", "urandom", "tty", "fd", "stdin", "stdout", "stderr", "ptmx", "pts", "shm"}
    return bool(set(os.listdir("/dev")) - kept)

@probe
def see_shared_memory_files(): return os.path.exists("/dev/shm/" + HOST["marker"])

@probe
def become_the_owner_by_a_set_id_file():
    path = "/tmp/set-id"
    with open(path, "wb") as file:
        file.write(b"#!/bin/true\n")
    os.chmod(path, 0o6755)
    flags = os.statvfs("/tmp").f_flag
    return not flags & os.ST_NOSUID

# The kernel's own files

@probe
def write_kernel_settings():
    return any(writable("/proc/sys/" + name) for name in ("kernel/core_pattern", "kernel/hostname", "vm/drop_caches", "net/ipv4/ip_forward"))

@probe
def write_sysrq(): return writable("/proc/sysrq-trigger", b"h")

@probe
def write_core_pattern_through_a_process(): return writable("/proc/1/root/proc/sys/kernel/core_pattern")

for hidden in ("kcore", "keys", "key-users", "kmsg", "timer_list", "sched_debug", "vmallocinfo", "slabinfo", "pagetypeinfo",
               "iomem", "ioports", "kpagecount", "kpageflags", "config.gz", "interrupts", "modules", "kallsyms", "latency_stats"):
    def attempt(hidden=hidden): return readable("/proc/" + hidden)
    attempt.__name__ = f"read_proc_{hidden.replace('.', '_').replace('-', '_')}"
    PROBES.append(attempt)

@probe
def list_acpi_and_scsi():
    return any(os.path.isdir(path) and os.listdir(path) for path in ("/proc/acpi", "/proc/scsi", "/proc/asound"))

@probe
def write_to_sys():
    return os.path.exists("/sys/kernel/uevent_helper") or os.path.exists("/sys/firmware/acpi") or os.path.exists("/sys/fs/cgroup/cgroup.procs")

@probe
def read_the_kernels_log(): return readable("/dev/kmsg") or succeeds("syslog", 10, 0, 0)

@probe
def learn_when_the_machine_started(): return HOST["uptime"] > 300 and float(open("/proc/uptime").read().split()[0]) > 300

# Other processes

@probe
def see_processes_of_the_host(): return len([name for name in os.listdir("/proc") if name.isdigit()]) > 12

@probe
def read_the_environment_of_pid_1(): return readable("/proc/1/environ")

@probe
def read_the_memory_of_pid_1():
    with open("/proc/1/mem", "rb") as file:
        return bool(file)

@probe
def write_the_memory_of_pid_1(): return writable("/proc/1/mem")

@probe
def list_open_files_of_pid_1(): return bool(os.listdir("/proc/1/fd"))

@probe
def attach_to_pid_1(): return in_child(lambda: succeeds("ptrace", 16, 1, 0, 0))

@probe
def read_pid_1_by_vectors():
    room = ctypes.create_string_buffer(8)
    vector = struct.pack("QQ", ctypes.addressof(room), 8)
    return succeeds("process_vm_readv", 1, vector, 1, vector, 1, 0)

@probe
def take_a_file_of_pid_1():
    pid = call("pidfd_open", 1, 0)
    return pid >= 0 and any(succeeds("pidfd_getfd", pid, number, 0) for number in range(8))

@probe
def stop_pid_1():
    for number in (signal.SIGKILL, signal.SIGSTOP, signal.SIGTERM):
        try:
            os.kill(1, number)
        except OSError:
            pass
    return not os.path.exists("/proc/1")

@probe
def compare_with_pid_1(): return succeeds("kcmp", 1, os.getpid(), 0, 0, 0)

@probe
def use_memory_segments_of_the_host():
    segment = libc.shmget(HOST["segment"], 0, 0)
    return segment >= 0

@probe
def see_what_the_caller_has_in_its_environment(): return any(HOST["marker"] in value for value in os.environ.values())

@probe
def have_a_terminal():
    os.close(os.open("/dev/tty", os.O_RDWR))
    return True

@probe
def type_into_a_terminal():
    leader, follower = os.openpty()
    try:
        fcntl.ioctl(follower, 0x5412, b"x")
        return True
    finally:
        os.close(leader)

# Rights

@probe
def become_user_0():
    def become():
        os.setresuid(0, 0, 0)
        return True
    return os.getuid() != 0 and in_child(become)

@probe
def take_groups():
    def take():
        os.setgroups([0, 42])
        return True
    return os.getuid() != 0 and in_child(take)

@probe
def have_capabilities():
    lines = dict(line.split(":\t", 1) for line in open("/proc/self/status") if ":\t" in line)
    return any(int(lines[name], 16) for name in ("CapEff", "CapPrm", "CapInh", "CapBnd", "CapAmb")) and os.getuid() != 0

@probe
def gain_rights_by_starting_a_program(): return libc.prctl(39, 0, 0, 0, 0) != 1

@probe
def be_without_a_filter(): return "Seccomp:\t2" not in open("/proc/self/status").read()

@probe
def be_the_machines_user():
    inside, outside, count = open("/proc/self/uid_map").read().split()[:3]
    return (int(inside), int(count)) == (0, 4294967295) or (HOST["superuser"] and int(outside) < 1_000_000_000)

@probe
def enter_namespaces_of_pid_1():
    def enter():
        for name in ("mnt", "net", "user", "pid", "ipc", "uts"):
            try:
                if succeeds("setns", os.open(f"/proc/1/ns/{name}", os.O_RDONLY), 0):
                    return True
            except OSError:
                pass
        return False
    return in_child(enter)

for name, flag in (("user", 0x10000000), ("mount", 0x20000), ("net", 0x40000000), ("pid", 0x20000000), ("cgroup", 0x2000000), ("time", 0x80)):
    def attempt(flag=flag): return in_child(lambda: succeeds("unshare", flag))
    attempt.__name__ = f"make_a_{name}_namespace"
    PROBES.append(attempt)

@probe
def clone_into_a_user_namespace():
    child = call("clone", 0x10000000 | signal.SIGCHLD, 0, 0, 0, 0)
    if child == 0:
        os._exit(0)
    return child > 0

calls("clone3", b"\0" * 88, 88)
calls("mount", b"none", b"/tmp", b"tmpfs", 0, 0)
calls("mount", b"/proc", b"/tmp", b"", 4096, 0)
calls("umount2", b"/proc", 2)
calls("pivot_root", b"/tmp", b"/tmp")
calls("move_mount", -100, b"/proc", -100, b"/tmp", 0)
calls("open_tree", -100, b"/", 1)
calls("fsopen", b"tmpfs", 0)
calls("mount_setattr", -100, b"/", 0, b"\0" * 32, 32)
calls("statmount", 0, 0, 0, 0)
calls("add_key", b"user", b"probe", b"x", 1, -3)
calls("keyctl", 0, -3, 0)
calls("request_key", b"user", b"probe", 0, 0)
calls("bpf", 0, b"\0" * 128, 128)
calls("perf_event_open", b"\0" * 128, 0, -1, -1, 0)
calls("userfaultfd", 0)
calls("io_uring_setup", 8, b"\0" * 120)
calls("kexec_load", 0, 0, 0, 0)
calls("init_module", b"", 0, b"")
calls("finit_module", 0, b"", 0)
calls("delete_module", b"loop", 0)
calls("reboot", 0xFEE1DEAD - (1 << 32), 672274793, 0, 0)
calls("swapon", b"/tmp/swap", 0)
calls("acct", 0)
calls("settimeofday", struct.pack("qq", 0, 0), 0)
calls("clock_settime", 0, struct.pack("qq", 0, 0))
calls("clock_adjtime", 0, b"\0" * 208)
calls("iopl", 3)
calls("ioperm", 0x80, 1, 1)
calls("modify_ldt", 0, b"\0" * 16, 16)
calls("quotactl", 0x800001 << 8, 0, 0, 0)
calls("fanotify_init", 0, 0)
calls("open_by_handle_at", 3, b"\0" * 24, 0)
calls("sethostname", b"probe", 5)
calls("vhangup")
calls("personality", 0x0400000)

@probe
def call_by_the_other_interface():
    return MACHINE == 0 and in_child(lambda: libc.syscall(ctypes.c_long(0x40000000 + 39)) > 0)

@probe
def call_what_nobody_knows_yet(): return in_child(lambda: libc.syscall(ctypes.c_long(600)) >= 0)

# The network

def connects(family, address, kind=socket.SOCK_STREAM):
    with socket.socket(family, kind) as connection:
        connection.settimeout(2)
        connection.connect(address)
        return True

@probe
def reach_a_port_of_the_host(): return connects(socket.AF_INET, ("127.0.0.1", HOST["port"]))

@probe
def reach_a_port_of_the_host_by_its_address(): return connects(socket.AF_INET, (HOST["address"], HOST["port"]))

@probe
def reach_a_port_of_the_host_by_ipv6(): return connects(socket.AF_INET6, ("::1", HOST["port"]))

@probe
def reach_the_outside(): return connects(socket.AF_INET, ("192.0.2.1", 80))

@probe
def send_to_the_outside():
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sender:
        return sender.sendto(b"x", ("192.0.2.1", 53)) == 1

@probe
def reach_an_abstract_socket_of_the_host(): return connects(socket.AF_UNIX, "\0" + HOST["marker"])

@probe
def reach_a_socket_file_of_the_host(): return connects(socket.AF_UNIX, HOST["socket"])

for family, name in ((40, "vsock"), (17, "packet"), (38, "alg"), (31, "bluetooth"), (29, "can"), (21, "rds"), (30, "tipc"), (15, "key"), (44, "xdp")):
    def attempt(family=family):
        socket.socket(family, socket.SOCK_DGRAM, 0).close()
        return True
    attempt.__name__ = f"open_a_{name}_socket"
    PROBES.append(attempt)

@probe
def open_an_audit_socket():
    socket.socket(16, socket.SOCK_RAW, 9).close()
    return True

@probe
def open_a_raw_socket():
    socket.socket(socket.AF_INET, socket.SOCK_RAW, 1).close()
    return True

@probe
def change_the_network():
    request = struct.pack("16sH14s", b"lo", 0, b"")
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as control:
        fcntl.ioctl(control, 0x8914, request)
    return True

# Limits

@probe
def start_processes_without_end():
    def start():
        started = 0
        for _ in range(HOST["processes"] + 200):
            try:
                child = os.fork()
            except OSError as error:
                return error.errno != errno.EAGAIN
            if child == 0:
                signal.pause()
                os._exit(0)
            started += 1
        return True
    try:
        return in_child(start)
    finally:
        # All but this one, what started it, and the first.
        for name in os.listdir("/proc"):
            if name.isdigit() and int(name) not in (1, os.getpid(), os.getppid()):
                try:
                    os.kill(int(name), signal.SIGKILL)
                except OSError:
                    pass
        while True:
            try:
                if os.waitpid(-1, os.WNOHANG) == (0, 0):
                    break
            except ChildProcessError:
                break

@probe
def open_files_without_end():
    def open_all():
        for _ in range(1 << 18):
            os.open("/dev/null", os.O_RDONLY)
        return True
    return in_child(open_all)

@probe
def raise_limits():
    for kind in (resource.RLIMIT_NPROC, resource.RLIMIT_NOFILE, resource.RLIMIT_FSIZE, resource.RLIMIT_CORE):
        try:
            soft, hard = resource.getrlimit(kind)
            resource.setrlimit(kind, (soft, resource.RLIM_INFINITY))
            return True
        except (OSError, ValueError):
            pass
    return False

@probe
def write_a_file_without_end():
    def write():
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        os.truncate(os.open("/tmp/long", os.O_RDWR | os.O_CREAT), 1 << 50)
        return True
    return in_child(write)

@probe
def fill_the_memory_with_files():
    def fill():
        with open("/tmp/fill", "wb") as file:
            os.posix_fallocate(file.fileno(), 0, HOST["memory"])
        return True
    try:
        return in_child(fill)
    finally:
        if os.path.exists("/tmp/fill"):
            os.unlink("/tmp/fill")

@probe
def leave_a_core_dump(): return resource.getrlimit(resource.RLIMIT_CORE)[1] != 0

@probe
def take_the_processor():
    os.nice(-5)
    return os.getpriority(os.PRIO_PROCESS, 0) < 0

@probe
def take_real_time():
    os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(10))
    return True

@probe
def write_into_the_root():
    if not HOST["root-is-read-only"]:
        return False
    with open("/usr/probe", "w") as file:
        return bool(file)


def main():
    place, escaped = sys.argv[1], 0
    if len(sys.argv) > 2:
        HOST["root-is-read-only"] = sys.argv[2] == "read-only"
    lines = []
    for attempt in PROBES:
        try:
            got = bool(attempt())
            detail = ""
        except OSError as error:
            got, detail = False, errno.errorcode.get(error.errno, "")
        escaped += got
        lines.append(f"{'GOT' if got else 'held':<5} {place}: {attempt.__name__.replace('_', ' ')} {detail}".rstrip())
    lines.append(f"{place}: {len(PROBES)} attempts, {escaped} got through")
    print("\n".join(lines), flush=True)
    return escaped


if __name__ == "__main__":
    sys.exit(min(main(), 1))
