"""Reading big definitions: import, and the second use from the cache; time and peak memory, each in a process
of its own.

Run by hand: python benchmarks/definitions.py
"""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from big import big_text, big_wsdl

SHAPES = [
    ("13 MB JSON, 1,200 operations", 13_000_000, 1_200, "json"),
    ("10 MB YAML, 1,200 operations", 10_000_000, 1_200, "yaml"),
    ("20 MB JSON, 11,000 operations", 20_000_000, 11_000, "json"),
]


def run(folder: Path, *words: str) -> tuple[float, int]:
    """(CPU seconds of the process, its peak memory in MB)."""
    code = (
        "import resource, sys\n"
        "from juxtalogos.cli.main import main\n"
        "status = main(sys.argv[1:])\n"
        "used = resource.getrusage(resource.RUSAGE_SELF)\n"
        "peak = next(line for line in open('/proc/self/status') if line.startswith('VmHWM'))\n"
        "print(used.ru_utime + used.ru_stime, int(peak.split()[1]) // 1024, file=sys.stderr)\n"
        "sys.exit(status)"
    )
    done = subprocess.run(
        [sys.executable, "-c", code, *words], cwd=folder, capture_output=True, text=True, check=True
    )
    seconds, memory = done.stderr.split("\n")[-2].split()
    return float(seconds), int(memory)


def main() -> None:
    print(
        f"{'definition':34}{'MB':>6}{'import s':>10}{'MB peak':>9}{'list s':>8}{'MB':>6}{'one s':>8}{'MB':>6}{'json.loads s':>14}"  # noqa: E501
    )
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        run(folder, "init")
        for title, size, operations, syntax in SHAPES:
            path = folder / f"big.{syntax}"
            path.write_text(big_text(size, operations, syntax=syntax), "utf-8")
            first = run(folder, "import", path.name, "--name", "big")
            listed, one = run(folder, "show", "big"), run(folder, "show", "big:get7")
            plain = _loads(path) if syntax == "json" else 0.0
            print(
                f"{title:34}{path.stat().st_size / 1e6:6.1f}{first[0]:10.2f}{first[1]:9}{listed[0]:8.2f}{listed[1]:6}{one[0]:8.2f}{one[1]:6}{plain:14.2f}",  # noqa: E501
                flush=True,
            )
        _wsdl(folder)


def _wsdl(folder: Path) -> None:
    for name, text in big_wsdl(1_500, 60, 5_000_000).items():
        (folder / "wsdl" / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / "wsdl" / name).write_text(text, "utf-8")
    size = sum(path.stat().st_size for path in (folder / "wsdl").rglob("*") if path.is_file())
    first = run(folder, "import", "wsdl", "--name", "soap")
    listed, one = run(folder, "show", "soap"), run(folder, "show", "soap:do77")
    print(
        f"{'WSDL over 60 files, 1,500 operations':34}{size / 1e6:6.1f}{first[0]:10.2f}{first[1]:9}{listed[0]:8.2f}{listed[1]:6}{one[0]:8.2f}{one[1]:6}"  # noqa: E501
    )


def _loads(path: Path) -> float:
    import json

    text = path.read_text("utf-8")
    started = time.process_time()
    json.loads(text)
    return time.process_time() - started


if __name__ == "__main__":
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    main()
