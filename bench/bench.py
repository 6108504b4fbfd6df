#!/usr/bin/env python3
"""Compares the program with the same work by hand in each engine's own shell: same rows, same statements, same machine, interleaved.

    bench/bench.py [--engines sqlite,sqlite-wal,postgres,mariadb] [--rows 100000] [--works one,thousand,tenth,all,gone] [--runs 3]
                   [--program PATH] [--out FILE.jsonl] [--count] [--no-sync]

By hand is: the rows selected, a copy of them made as a table, the statement in a transaction with the rows selected again inside it,
and the commit (`full`); the same with the rows only counted (`lean`); the old values put back from the copy (`restore`); the rows
selected into a file (`select`). Ours are `preview`, `apply` and `undo`. Wall time and CPU time (of the client and of the server),
peak resident memory of the client; medians over the runs, and ratios to the work by hand. The servers are private ones in a
temporary folder, begun by the tests' own `servers`; they sync at each COMMIT unless `--no-sync` is given. Only their CPU time is counted,
not that of other servers on the machine. Needs: sqlite3, psql, mariadb (the shells themselves, not a wrapper), and a built program.

With `--count` each piece of work is done once more for what does not depend on how busy the machine is: the instructions of the client
(where `perf` is there and may count) and how often it syncs a file or folder (where `strace` is there). Of a server's own nothing is counted.
"""
import argparse, json, os, pathlib, random, shutil, statistics, subprocess, sys, tempfile, time

HOME = pathlib.Path(__file__).resolve().parent.parent
TICKS = os.sysconf("SC_CLK_TCK")
FIELDS = ["inspection_id", "code", "hive", "place", "words", "price", "weight", "day", "note"]


def rows(n):
    """Rows of about 120 bytes; `code` is a permutation, so that a range of it is scattered over the table."""
    dice = random.Random(42)
    places = ["Moor", "Dale", "Fell", "Coast", "Whin Bank", "Silver Howe", "Heath", "Wood", "Beck", "Rigg"]
    things = ["brood", "queen", "stores", "eggs", "mites", "comb", "foragers", "supers", "drones", "cells"]
    step = 7919 * 131 + 2 | 1
    for i in range(n):
        y = int(dice.random() * 1e9)
        a, b = things[y % 10], things[y // 10 % 10]
        note = None if y % 3 else f"seen by the keepers of {places[y // 100 % 10]}, sheet {y % 100000}"
        yield (i + 1, f"K{(i * step + 12345) % n:08d}", f"{a} {b} {y % 10000}", places[y // 1000 % 10],
               f"{b} before {a}, frame {y % 97}, calm", f"{(y % 99991) / 100 + 1:.2f}", f"{(y % 7919) / 1000:.3f}",
               f"20{10 + y % 15:02d}-{1 + y % 12:02d}-{1 + y % 28:02d}", note)


def works(n):
    """Each piece of work: its filter, how many rows it takes, and whether they go."""
    tenth = n // 10
    return {"one": (f"WHERE inspection_id = {n // 2}", 1, False),
            "thousand": ("WHERE code < 'K00001000'", min(1000, n), False),
            "tenth": (f"WHERE code < 'K{tenth:08d}'", tenth, False),
            "all": ("", n, False),
            "gone": (f"WHERE code < 'K{tenth:08d}'", tenth, True)}


class Instructions:
    argv = ["perf", "stat", "-x,", "-e", "instructions:u", "-o"]

    def read(self, file):
        told = [line.split(",") for line in file.read_text().splitlines() if "instructions" in line]
        return {"instructions": int(told[0][0])} if told and told[0][0].isdigit() else {}


class Syncs:
    argv = ["strace", "-f", "-qq", "--seccomp-bpf", "-e", "trace=fsync,fdatasync", "-o"]

    def read(self, file):
        return {"syncs": sum("sync(" in line for line in file.read_text().splitlines())}


class Engine:
    begin = "BEGIN;"
    counter = None
    update = "UPDATE inspection SET price = b.price FROM copy AS b WHERE b.inspection_id = inspection.inspection_id;"

    def quiet(self, query):
        return query

    def cpu(self):
        return 0.0

    def run(self, argv, script=None, to=None):
        """One process: wall, CPU of it and of the server, its peak memory in MiB."""
        out = open(to, "wb") if to else subprocess.DEVNULL
        if self.counter:
            counted = pathlib.Path(tempfile.mkstemp(prefix="marktwice-count-")[1])
            argv = [*self.counter.argv, str(counted), *argv]
        before, start = self.cpu(), time.perf_counter()
        process = subprocess.Popen(argv, stdin=subprocess.PIPE, stdout=out, stderr=subprocess.PIPE)
        if script is not None:
            process.stdin.write(script.encode())
        process.stdin.close()
        said = process.stderr.read()
        _, status, used = os.wait4(process.pid, 0)
        wall = time.perf_counter() - start
        if status or b"rror" in said:
            sys.exit(f"{argv} ended with {status}: {said.decode()}\n{script}")
        time.sleep(0.05)
        if self.counter:
            found = self.counter.read(counted)
            counted.unlink()
            return found
        return {"wall": wall, "cpu": used.ru_utime + used.ru_stime + self.cpu() - before, "mib": used.ru_maxrss / 1024}


class Sqlite(Engine):
    def __init__(self, folder, n, wal):
        self.base, self.now = folder / "base.db", folder / "now.db"
        subprocess.run(["sqlite3", self.base, "PRAGMA synchronous = off; CREATE TABLE inspection (inspection_id INTEGER PRIMARY KEY, "
                        "code TEXT NOT NULL, hive TEXT NOT NULL, place TEXT NOT NULL, words TEXT NOT NULL, price NUMERIC NOT NULL, "
                        "weight NUMERIC NOT NULL, day DATE NOT NULL, note TEXT);"], check=True, stdout=subprocess.DEVNULL)
        import sqlite3
        with sqlite3.connect(self.base) as db:
            db.executemany(f"INSERT INTO inspection VALUES ({','.join('?' * len(FIELDS))})", rows(n))
            db.execute("CREATE INDEX inspection_code ON inspection (code)")
            db.execute("ANALYZE")
        if wal:
            db.execute("PRAGMA journal_mode = wal")
        db.close()
        self.address = f"sqlite:{self.now}"

    def fresh(self):
        for end in ("", "-wal", "-shm", "-journal"):
            pathlib.Path(str(self.now) + end).unlink(missing_ok=True)
        shutil.copyfile(self.base, self.now)
        with open(self.now, "rb") as file:
            # Not all at once: what this process takes is counted into the peak of those that it begins.
            while file.read(1 << 20):
                pass
        os.sync()

    def shell(self, script, to=None):
        return self.run(["sqlite3", "-batch", "-bail", str(self.now)], script, to)

    def quiet(self, query):
        return f".output /dev/null\n{query}\n.output\n"


def shell_program(name):
    """The engine's own shell. A distribution may put a wrapper in another language before it, which costs more than one row does."""
    found = sorted(pathlib.Path("/usr/lib/postgresql").glob(f"*/bin/{name}"), key=lambda path: int(path.parts[-3]))
    path = str(found[-1]) if found else shutil.which(name)
    if not path:
        sys.exit(f"{name} is not installed")
    with open(path, "rb") as file:
        if file.read(4) != b"\x7fELF":
            sys.exit(f"{path} is a script around the shell, which must not be timed: install the shell itself")
    return path


class Server(Engine):
    def __init__(self, folder, n, at, sync):
        # The servers end when nobody holds their input open any more.
        argv = [HOME / "target/debug/servers", *(["--sync"] if sync else [])]
        self.process = subprocess.Popen(argv, stdin=subprocess.PIPE, stdout=open(folder / "urls", "w"))
        while len(lines := pathlib.Path(folder / "urls").read_text().splitlines()) < 2:
            time.sleep(0.2)
        self.address = lines[at]
        self.socket = self.address.split("host=" if at == 0 else "socket=")[1]
        self.sheet = folder / "rows.tsv"
        with open(self.sheet, "w") as out:
            for row in rows(n):
                out.write("\t".join("\\N" if cell is None else str(cell) for cell in row) + "\n")
        self.sheet.chmod(0o644)
        folder.chmod(0o755)

    def cpu(self):
        """CPU seconds of our own servers: the processes below the one that was started here, those that have ended included."""
        parents, used = {}, {}
        for entry in os.scandir("/proc"):
            if entry.name.isdigit():
                try:
                    fields = open(f"/proc/{entry.name}/stat").read().rsplit(")", 1)[1].split()
                except OSError:
                    continue
                parents[int(entry.name)] = int(fields[1])
                used[int(entry.name)] = sum(map(int, fields[11:15]))
        def ours(pid):
            while pid in parents and pid != self.process.pid:
                pid = parents[pid]
            return pid == self.process.pid
        return sum(ticks for pid, ticks in used.items() if ours(pid)) / TICKS

    def stop(self):
        self.process.stdin.close()
        self.process.wait()


class Postgres(Server):
    def __init__(self, folder, n, sync):
        super().__init__(folder, n, 0, sync)
        self.argv = [shell_program("psql"), "-qAtX", "-v", "ON_ERROR_STOP=1", "-h", self.socket, "-U", "tester", "scene_0"]
        self.shell("CREATE TABLE base (inspection_id integer PRIMARY KEY, code text NOT NULL, hive text NOT NULL, place text NOT NULL, "
                   "words text NOT NULL, price numeric(12,2) NOT NULL, weight numeric(10,3) NOT NULL, day date NOT NULL, note text);\n"
                   f"\\copy base from '{self.sheet}'\n")

    def fresh(self):
        self.shell("SET client_min_messages = warning; DROP TABLE IF EXISTS copy; DROP TABLE IF EXISTS inspection; "
                   "CREATE TABLE inspection (LIKE base INCLUDING ALL); INSERT INTO inspection SELECT * FROM base; "
                   "CREATE INDEX inspection_code ON inspection (code); ANALYZE inspection; CHECKPOINT;")

    def shell(self, script, to=None):
        return self.run(self.argv, script, to)

    def quiet(self, query):
        return f"\\o /dev/null\n{query}\n\\o\n"


class Maria(Server):
    begin = "START TRANSACTION;"
    update = "UPDATE inspection JOIN copy AS b ON b.inspection_id = inspection.inspection_id SET inspection.price = b.price;"

    def __init__(self, folder, n, sync):
        super().__init__(folder, n, 1, sync)
        self.argv = [shell_program("mariadb"), "--no-defaults", f"--socket={self.socket}", "-uroot", "--batch", "-N", "--local-infile=1", "scene_0"]
        self.shell("CREATE TABLE base (inspection_id integer PRIMARY KEY, code varchar(20) NOT NULL, hive varchar(60) NOT NULL, "
                   "place varchar(40) NOT NULL, words varchar(120) NOT NULL, price decimal(12,2) NOT NULL, weight decimal(10,3) NOT NULL, "
                   f"day date NOT NULL, note varchar(120), KEY (code)); LOAD DATA LOCAL INFILE '{self.sheet}' INTO TABLE base;")

    def fresh(self):
        self.shell("DROP TABLE IF EXISTS copy; DROP TABLE IF EXISTS inspection; CREATE TABLE inspection LIKE base; "
                   "INSERT INTO inspection SELECT * FROM base; ANALYZE TABLE inspection;")

    def shell(self, script, to=None):
        return self.run(self.argv, script, to)


def measure(engine, program, folder, work, given, keep):
    """One run of everything there is to compare for one piece of work."""
    where, count, gone = given
    select, counted = f"SELECT * FROM inspection {where};", f"SELECT count(*) FROM inspection {where};"
    statement = f"DELETE FROM inspection {where}" if gone else f"UPDATE inspection SET price = price * 1.1 {where}"
    back = "INSERT INTO inspection SELECT * FROM copy;" if gone else engine.update
    copy = f"CREATE TABLE copy AS SELECT * FROM inspection {where};\n"
    full = [engine.quiet(select), copy, engine.begin, f"{statement};", engine.quiet(select), "COMMIT;"]
    lean = [counted, copy, engine.begin, f"{statement};", counted, "COMMIT;"]
    book = folder / "book"
    shutil.rmtree(book, ignore_errors=True)
    ours = lambda *more: [program, *more, "--on", engine.address, "--logbook", str(book)]
    change = ["--sql", statement, "--allow", "no-filter"]
    agreed = ["--rows", str(count), "--yes"]
    engine.fresh()
    keep(work, "select", engine.shell(select, folder / "selected"))
    keep(work, "full", engine.shell("\n".join(full)))
    keep(work, "restore", engine.shell("\n".join([engine.begin, back, "COMMIT;"])))
    engine.fresh()
    keep(work, "lean", engine.shell("\n".join(lean)))
    engine.fresh()
    keep(work, "preview", engine.run(ours("preview", *change, "--quick")))
    keep(work, "apply", engine.run(ours("apply", *change, *agreed)))
    # The one run of a fresh logbook.
    run = next(book.glob("*/runs/*")).name.rsplit("-", 1)[1]
    keep(work, "undo", engine.run(ours("undo", run, *agreed)))


def table(results):
    """The medians as Markdown: seconds by hand and of ours, and the ratios."""
    print("\n| engine | rows | work | full | apply | apply / full | CPU | apply / lean | undo / restore | preview / select | peak MiB |")
    print("|---|---|---|---|---|---|---|---|---|---|---|")
    for (engine, n, work), cases in results.items():
        median = {case: {k: statistics.median(m[k] for m in all) for k in all[0]} for case, all in cases.items()}
        ratio = lambda a, b, key="wall": median[a][key] / max(median[b][key], 1e-9)
        print(f"| {engine} | {n:,} | {work} | {median['full']['wall']:.3f} s | {median['apply']['wall']:.3f} s | "
              f"{ratio('apply', 'full'):.2f} | {ratio('apply', 'full', 'cpu'):.2f} | {ratio('apply', 'lean'):.2f} | "
              f"{ratio('undo', 'restore'):.2f} | {ratio('preview', 'select'):.2f} | {median['apply']['mib']:.0f} |")


def counts(results):
    """What was counted as Markdown: instructions a row and in proportion, and syncs."""
    print("\n| engine | rows | work | instructions a row: full | apply | apply / full | undo | syncs: full | apply | undo |")
    print("|---|---|---|---|---|---|---|---|---|---|")
    for (engine, n, work), cases in results.items():
        told = lambda case, what: cases.get(case, {}).get(what)
        rows = works(n)[work][1]
        each = lambda case: "" if told(case, "instructions") is None else f"{told(case, 'instructions') / rows:,.0f}"
        full, apply = told("full", "instructions"), told("apply", "instructions")
        ratio = f"{apply / full:.2f}" if full and apply else ""
        syncs = " | ".join("" if told(case, "syncs") is None else str(told(case, "syncs")) for case in ("full", "apply", "undo"))
        print(f"| {engine} | {n:,} | {work} | {each('full')} | {each('apply')} | {ratio} | {each('undo')} | {syncs} |")
    if not any("instructions" in found for cases in results.values() for found in cases.values()):
        print("\nInstructions cannot be counted on this machine.")


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--engines", default="sqlite,sqlite-wal,postgres,mariadb")
    parser.add_argument("--rows", default="100000")
    parser.add_argument("--works", default="one,thousand,tenth,all,gone")
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--program")
    parser.add_argument("--out")
    parser.add_argument("--count", action="store_true")
    parser.add_argument("--no-sync", action="store_true")
    args = parser.parse_args()
    if not args.program:
        subprocess.run(["cargo", "build", "--release", "-q", "-p", "marktwice"], check=True, cwd=HOME)
    program = args.program or str(HOME / "target/release/marktwice")
    results, counted = {}, {}
    for name in args.engines.split(","):
        if name in ("postgres", "mariadb"):
            subprocess.run(["cargo", "build", "-q", "-p", "marktwice-testkit", "--bin", "servers"], check=True, cwd=HOME)
        for n in map(int, args.rows.split(",")):
            folder = pathlib.Path(tempfile.mkdtemp(prefix="marktwice-bench-"))
            engine = None
            try:
                if name.startswith("sqlite"):
                    engine = Sqlite(folder, n, name == "sqlite-wal")
                else:
                    engine = (Postgres if name == "postgres" else Maria)(folder, n, not args.no_sync)
                for run in range(args.runs):
                    for work in args.works.split(","):
                        def keep(work, case, measured):
                            results.setdefault((name, n, work), {}).setdefault(case, []).append(measured)
                            if args.out:
                                with open(args.out, "a") as out:
                                    out.write(json.dumps({"engine": name, "rows": n, "work": work, "case": case, "run": run, **measured}) + "\n")
                        measure(engine, program, folder, work, works(n)[work], keep)
                    print(f"{name}, {n} rows: run {run + 1} of {args.runs} is done", file=sys.stderr)
                for counter in (Instructions(), Syncs()) if args.count else ():
                    if not shutil.which(counter.argv[0]):
                        print(f"{counter.argv[0]} is not there, and {type(counter).__name__.lower()} are not counted", file=sys.stderr)
                        continue
                    engine.counter = counter
                    for work in args.works.split(","):
                        def keep(work, case, found):
                            counted.setdefault((name, n, work), {}).setdefault(case, {}).update(found)
                        measure(engine, program, folder, work, works(n)[work], keep)
                    engine.counter = None
            finally:
                if hasattr(engine, "stop"):
                    engine.stop()
                shutil.rmtree(folder, ignore_errors=True)
    print("\nThe servers " + ("do not sync at COMMIT: one row costs more where they do." if args.no_sync else "sync at each COMMIT, as they do in use."))
    table(results)
    if args.count:
        counts(counted)


if __name__ == "__main__":
    main()
