"""Timing two commands in turn: shared by the benchmark scripts."""
import glob
import os
import resource
import stat
import statistics
import subprocess
import sys
import time


def measure(command, fine=(0,)):
    """Wall and processor seconds of a command (a list, or a line for the shell), which must end with a fine status."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    start = time.perf_counter()
    status = subprocess.run(command, shell=isinstance(command, str), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL).returncode
    wall = time.perf_counter() - start
    if status not in fine:
        sys.exit(f"{command} ended with status {status}: what was timed is not what was meant")
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return wall, after.ru_utime - before.ru_utime + after.ru_stime - before.ru_stime


def interval(values):
    """The median and its 95 % interval by order statistics (binomial)."""
    values = sorted(values)
    n = len(values)
    low = 0
    total, term = 0.0, 0.5**n
    for k in range(n // 2):
        total += term
        if total > 0.025:
            break
        low = k + 1 if total <= 0.025 else low
        term = term * (n - k) / (k + 1)
    low = max(low - 1, 0)
    return statistics.median(values), values[low], values[n - 1 - low]


def peak_memory(command):
    """MiB that a command held at most."""
    code = "import resource,subprocess,sys;subprocess.run(sys.argv[1:],stdout=subprocess.DEVNULL,stderr=subprocess.DEVNULL);print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
    return int(subprocess.run([sys.executable, "-c", code, *command], check=True, capture_output=True, text=True).stdout) // 1024


def forget():
    """Empties the kernel's caches of files and names (root only)."""
    subprocess.run(["sync"], check=True)
    with open("/proc/sys/vm/drop_caches", "w") as switch:
        switch.write("3")


def in_pairs(ours, theirs, pairs, names, cold=False):
    """Runs both in turn, the order changing from pair to pair, and prints medians and ratios."""
    measure(theirs), measure(ours)
    timed = []
    for number in range(pairs):
        order = [ours, theirs] if number % 2 == 0 else [theirs, ours]
        result = {}
        for command in order:
            if cold:
                forget()
            result[id(command)] = measure(command)
        timed.append((result[id(ours)], result[id(theirs)]))
    for at, name in enumerate(names):
        wall = statistics.median(pair[at][0] for pair in timed)
        processor = statistics.median(pair[at][1] for pair in timed)
        print(f"{name:24} {wall:.3f} s wall, {processor:.3f} s processor")
    for at, what in enumerate(["wall", "processor"]):
        middle, low, high = interval([a[at] / b[at] for a, b in timed])
        print(f"ratio, {what:17} {middle:.2f} (95 %: {low:.2f} to {high:.2f})")


def owned(root):
    """The files that packages own, each once, as the package database lists them."""
    seen = set()
    for name in sorted(glob.glob(f"{glob.escape(root)}/var/lib/dpkg/info/*.list")):
        with open(name, "rb") as lines:
            for line in lines:
                path = os.fsencode(root) + line.rstrip(b"\n")
                try:
                    found = os.lstat(path)
                except OSError:
                    continue
                if stat.S_ISREG(found.st_mode):
                    seen.add((found.st_dev, found.st_ino, path))
    once = {}
    for dev, ino, path in sorted(seen, key=lambda s: s[2]):
        once.setdefault((dev, ino), path)
    return sorted(once.values())
