using System.Diagnostics;
using System.Globalization;
using System.Runtime.InteropServices;
using System.Text;
using Vembar.Cli.Tests;
using Vembar.Native.Multicast;

// Measures the built program beside general tools on the same data in the same run, each several times in turn, and writes
// docs/performance.md. Usage: vembar-bench [--quick] [--tree DIR] [--rows TEXT]
if (args is [WaveLoad.Receive, .. var receive])
    return WaveLoad.RunReceivers(receive);
var quick = args.Contains("--quick");
string? Option(string name) => Array.IndexOf(args, name) is >= 0 and var at && at + 1 < args.Length ? args[at + 1] : null;
var bench = new Bench(quick ? 1 : 3, Option("--tree") ?? Bench.UsualTree, Option("--rows") ?? "");
return bench.Run();

internal sealed class Bench(int times, string tree, string rows)
{
    private readonly string _vembar = Path.GetFullPath("out/vembar");
    private readonly string _work = Directory.CreateTempSubdirectory("vembar-bench-").FullName;
    private readonly List<string> _table = [];
    private readonly StringBuilder _raw = new();

    /// <summary>What is captured when nothing else is named.</summary>
    public const string UsualTree = "/usr/lib";

    private sealed record Measured(double Seconds, long MemoryKib);

    public int Run()
    {
        try
        {
            var (files, bytes) = Size(tree);
            Note($"Tree: `{tree}`, {files:N0} files, {bytes / 1048576.0:N0} MiB. {Environment.ProcessorCount} cores, "
                + $"{RuntimeInformation.FrameworkDescription}. Median of {times}.");
            // Nobody is to be the one who reads it from the disk.
            Once($"find {tree} -type f -print0 | xargs -0 cat > /dev/null");
            Captures();
            Adding();
            Changing();
            Looking();
            Reporting();
            Servicing();
            Hives();
            Pool();
            Compacted();
            Verifying();
            Recovering();
            Deploying();
            Places();
            Station();
            Waves();
            Volumes();
            Million();
            WriteReport();
            return 0;
        }
        finally
        {
            Process.Start("rm", ["-rf", _work])!.WaitForExit();
        }
    }

    private bool Wanted(string row) => rows.Length == 0 || row.Contains(rows, StringComparison.OrdinalIgnoreCase);

    private string At(string name) => Path.Combine(_work, name);

    private void Note(string text)
    {
        Console.WriteLine(text);
        _raw.AppendLine(text).AppendLine();
    }

    private static (long Files, long Bytes) Size(string folder)
    {
        var files = new DirectoryInfo(folder).EnumerateFiles("*", new EnumerationOptions
        {
            RecurseSubdirectories = true,
            AttributesToSkip = FileAttributes.ReparsePoint,
        }).ToList();
        return (files.Count, files.Sum(f => f.Length));
    }

    // Time and peak memory as the kernel's accounting has them, children included.
    private Measured Once(string command)
    {
        var clock = Stopwatch.StartNew();
        using var process =
            Process.Start(new ProcessStartInfo("/usr/bin/env", ["time", "-f", "%M", "-o", At("memory"), "bash", "-c", command])
            {
                RedirectStandardOutput = true,
                RedirectStandardError = true,
            })!;
        var error = process.StandardError.ReadToEndAsync();
        var output = process.StandardOutput.ReadToEnd();
        process.WaitForExit();
        if (process.ExitCode != 0)
        {
            // A refused change is told on standard output.
            throw new InvalidOperationException(
                $"{command} ended with {process.ExitCode}\n{error.Result}\n{output}\n{File.ReadAllText(At("memory"))}");
        }
        return new Measured(clock.Elapsed.TotalSeconds, long.Parse(File.ReadAllLines(At("memory"))[^1], CultureInfo.InvariantCulture));
    }

    // In turn, so that a slow minute of the machine falls on all of them.
    private Measured[] InTurn(params (string Before, string Command)[] commands)
    {
        var all = commands.Select(_ => new List<Measured>()).ToArray();
        for (var round = 0; round < times; round++)
        {
            for (var i = 0; i < commands.Length; i++)
            {
                // What one left to be written is not the next one's burden.
                Once(commands[i].Before.Length > 0 ? $"{commands[i].Before}; sync" : "sync");
                all[i].Add(Once(commands[i].Command));
            }
        }
        return [.. all.Select((list, i) =>
        {
            var median = list.OrderBy(m => m.Seconds).ElementAt(list.Count / 2);
            var command = commands[i].Command.Replace(_work, "$WORK", StringComparison.Ordinal)
                .Replace(_vembar, "vembar", StringComparison.Ordinal);
            Note($"- `{command}`: {median.Seconds:0.00} s, {list.Max(m => m.MemoryKib) / 1024} MiB");
            return median with { MemoryKib = list.Max(m => m.MemoryKib) };
        })];
    }

    private readonly BenchHistory _history = new("bench/history.tsv");

    private void Row(string work, string target, string reached, bool ok)
    {
        _table.Add($"| {work} | {target} | {reached} | {(ok ? "yes" : "no")} |");
        _history.Add(work, reached);
    }

    private static string Ratio(double value) => value.ToString("0.00", CultureInfo.InvariantCulture);

    private static long Length(string path) => new FileInfo(path).Length;

    private void Captures()
    {
        if (Wanted("capture quick"))
        {
            var m = InTurn(
                ($"rm -f {At("q.vmb")}", $"{_vembar} capture {tree} {At("q.vmb")} --name x --effort quick -q"),
                ($"rm -f {At("q.sq")}", $"mksquashfs {tree} {At("q.sq")} -comp zstd -Xcompression-level 1 -b 1M -quiet -no-progress"),
                ($"rm -f {At("q.tz")}", $"tar c {tree} 2>/dev/null | zstd -1 -T0 -q -o {At("q.tz")}"));
            var time = m[0].Seconds / Math.Min(m[1].Seconds, m[2].Seconds);
            var size = (double)Length(At("q.vmb")) / Math.Min(Length(At("q.sq")), Length(At("q.tz")));
            Row("capture, quick", "time ≤ 0.70 × the faster of tar\\|zstd -1 and mksquashfs level 1; size ≤ 1.00 × the smaller",
                $"time {Ratio(time)}, size {Ratio(size)}, {m[0].MemoryKib / 1024} MiB", time <= 0.70 && size <= 1);
        }
        if (Wanted("capture balanced"))
        {
            var m = InTurn(
                ($"rm -f {At("b.vmb")}", $"{_vembar} capture {tree} {At("b.vmb")} --name x -q"),
                ($"rm -f {At("b.sq")}", $"mksquashfs {tree} {At("b.sq")} -comp zstd -Xcompression-level 6 -b 1M -quiet -no-progress"));
            var time = m[0].Seconds / m[1].Seconds;
            var size = (double)Length(At("b.vmb")) / Length(At("b.sq"));
            Row("capture, balanced", "time ≤ 0.70, size ≤ 0.95 × mksquashfs level 6",
                $"time {Ratio(time)}, size {Ratio(size)}, {m[0].MemoryKib / 1024} MiB", time <= 0.70 && size <= 0.95);
        }
        if (Wanted("capture dense") && times > 1)
        {
            // A smaller tree: this level takes minutes for a few hundred MiB.
            Once($"{_vembar} demo {At("small")} --world-only --without-disks --scale 6 -q");
            var desk = $"{At("small")}/references/lending-desk";
            var clock = Once($"rm -f {At("d.vmb")}; {_vembar} capture {desk} {At("d.vmb")} --name x --effort dense --keep-all -q");
            var peer = Once($"mksquashfs {desk} {At("d.sq")} -comp zstd -Xcompression-level 19 -b 1M -quiet -no-progress");
            Note($"- dense once: vembar {clock.Seconds:0.0} s, {Length(At("d.vmb"))} bytes; mksquashfs level 19 {peer.Seconds:0.0} s, "
                + $"{Length(At("d.sq"))} bytes");
            var time = clock.Seconds / peer.Seconds;
            var size = (double)Length(At("d.vmb")) / Length(At("d.sq"));
            Row("capture, dense (demo desktop, scale 6)", "time ≤ 1.00, size < 1.00 × mksquashfs level 19",
                $"time {Ratio(time)}, size {Ratio(size)}, {clock.MemoryKib / 1024} MiB", time <= 1 && size < 1);
            File.Delete(At("d.vmb"));
            File.Delete(At("d.sq"));
        }
    }

    private void Base()
    {
        if (!File.Exists(At("b.vmb")))
            Once($"{_vembar} capture {tree} {At("b.vmb")} --name x -q");
        if (!File.Exists(At("b.sq")))
            Once($"mksquashfs {tree} {At("b.sq")} -comp zstd -Xcompression-level 6 -b 1M -quiet -no-progress");
    }

    private void Adding()
    {
        if (!Wanted("add"))
            return;
        Base();
        var first = Once($"rm -f {At("first.vmb")}; {_vembar} capture {tree} {At("first.vmb")} --name x -q");
        var before = Length(At("b.vmb"));
        var m = InTurn(
            ($"cp {At("b.vmb")} {At("t.vmb")}", $"{_vembar} capture {tree} {At("t.vmb")} --name y -q"),
            ($"cp {At("b.vmb")} {At("r.vmb")}", $"{_vembar} capture {tree} {At("r.vmb")} --name y --reread -q"),
            ("", $"find {tree} -type f -print0 | xargs -0 b3sum > /dev/null"));
        var time = m[0].Seconds / first.Seconds;
        var size = (double)(Length(At("t.vmb")) - before) / before;
        Row("add an unchanged tree, times trusted", "≤ 0.05 × the first capture; ≤ 0.1 % of the size",
            $"time {Ratio(time)}, {size * 100:0.000} %, {m[0].MemoryKib / 1024} MiB", time <= 0.05 && size <= 0.001);
        var read = m[1].Seconds / m[2].Seconds;
        Row("add an unchanged tree, everything read", "≤ 1.3 × b3sum", $"time {Ratio(read)}, {m[1].MemoryKib / 1024} MiB", read <= 1.3);
    }

    // A fiftieth of the files gets a line more; what the archive grows by is compared with those files, compressed.
    private void Changing()
    {
        if (!Wanted("changed"))
            return;
        Once($"mkdir -p {At("changing")} && cp -r {tree}/. {At("changing")}/ && rm -f {At("x.vmb")} && {_vembar} capture "
            + $"{At("changing")} {At("x.vmb")} --name first -q");
        var before = Length(At("x.vmb"));
        Once($"cd {At("changing")} && find . -type f -size +0 | LC_ALL=C sort | awk 'NR % 50 == 0' > {At("changed")} && while IFS= read "
            + $"-r f; do echo 'one line more' >> \"$f\"; done < {At("changed")}; tar c -T {At("changed")} | zstd -5 -q -f -o "
            + $"{At("changed.zst")}");
        var m = Once($"{_vembar} capture {At("changing")} {At("x.vmb")} --name second -q");
        var grown = Length(At("x.vmb")) - before;
        var rest = (double)(grown - Length(At("changed.zst"))) / before;
        Note($"- 2 % changed: {m.Seconds:0.00} s; the archive grew by {grown:N0} bytes, the changed files are "
            + $"{Length(At("changed.zst")):N0} bytes as tar, zstd -5; the first capture was {before:N0} bytes");
        Row("add a tree with 2 % of the files changed", "the changed files, compressed, and ≤ 0.3 %", $"{rest * 100:0.00} % beside them",
            rest <= 0.003);
        Once($"rm -rf {At("changing")} {At("x.vmb")}");
    }

    // The same tree onto an NTFS volume and from it, beside the way through a mount. Needs root for the mount.
    private void Volumes()
    {
        if (!Wanted("volume"))
            return;
        Base();
        var (_, bytes) = Size(tree);
        var size = $"{bytes * 3 / 2 / (1 << 20) + 2048} MiB";
        Once($"mkdir -p {At("mnt")}");
        var mount = $"rm -f {At("f.img")}; truncate -s 8G {At("f.img")} && mkntfs -F -Q -q -s 512 -c 4096 -p 0 -H 255 -S 63 "
            + $"{At("f.img")} && ntfs-3g {At("f.img")} {At("mnt")}";
        var write = InTurn(
            ($"rm -f {At("n.img")}", $"{_vembar} deploy {At("b.vmb")}#1 {At("n.img")} --size '{size}' -q"),
            ($"umount {At("mnt")} 2>/dev/null; {mount}",
            $"unsquashfs -q -n -f -d {At("mnt")} {At("b.sq")} >/dev/null 2>&1; umount {At("mnt")}"));
        Row("deploy to a disk image (NTFS)", "≤ 0.5 × unsquashfs through a FUSE mount",
            $"time {Ratio(write[0].Seconds / write[1].Seconds)}, {write[0].MemoryKib / 1024} MiB",
            write[0].Seconds <= 0.5 * write[1].Seconds && write[0].MemoryKib <= 400 * 1024);
        var read = InTurn(
            ($"rm -f {At("n.vmb")}", $"{_vembar} capture {At("f.img")} {At("n.vmb")} --name x --effort quick --keep-all -q"),
            ($"ntfs-3g -o ro {At("f.img")} {At("mnt")}",
            $"tar c -C {At("mnt")} . 2>/dev/null | zstd -1 -T0 -q -f -o {At("n.tz")}; umount {At("mnt")}"));
        Row("capture an NTFS volume, quick", "as fast as can be",
            $"time {Ratio(read[0].Seconds / read[1].Seconds)} × tar\\|zstd -1 through a FUSE mount, {read[0].MemoryKib / 1024} MiB",
            read[0].Seconds <= read[1].Seconds);
        Once($"rm -f {At("n.img")} {At("f.img")} {At("n.vmb")} {At("n.tz")}");
    }

    private void Million()
    {
        if (!Wanted("million"))
            return;
        var files = Path.Combine("/dev/shm", $"vembar-million-{Environment.ProcessId}");
        try
        {
            for (var folder = 0; folder < 1000; folder++)
            {
                var path = Path.Combine(files, $"{folder / 32}", $"{folder}");
                Directory.CreateDirectory(path);
                for (var file = 0; file < 1000; file++)
                    File.WriteAllText(Path.Combine(path, $"f{file}.txt"), $"file {folder} {file}");
            }
            var capture = Once($"{_vembar} capture {files} {At("m.vmb")} --name m -q");
            var again = Once($"{_vembar} capture {files} {At("m.vmb")} --name again -q");
            var verify = Once($"{_vembar} verify {At("m.vmb")} -q");
            var copy = Once($"{_vembar} copy {At("m.vmb")}#1 {At("mc.vmb")} -q");
            var deploy = Once($"{_vembar} deploy {At("m.vmb")}#1 {files}-out -q");
            var all = new[] { capture, again, verify, copy, deploy };
            Row("memory at 1,000,000 files: capture, again, verify, copy, deploy", "≤ 400 MiB",
                string.Join(", ", all.Select(m => $"{m.MemoryKib / 1024}")) + " MiB", all.All(m => m.MemoryKib <= 400 * 1024));
            Note($"- a million files: capture {capture.Seconds:0.0} s, again {again.Seconds:0.0} s, verify {verify.Seconds:0.0} s, copy "
                + $"{copy.Seconds:0.0} s, deploy {deploy.Seconds:0.0} s");
        }
        finally
        {
            Once($"rm -rf {files} {files}-out {At("m.vmb")} {At("mc.vmb")}");
        }
    }

    private void World()
    {
        if (File.Exists(At("w.vmb")))
            return;
        Once($"{_vembar} demo {At("world")} --world-only --without-disks --scale 33 -q");
        Once($"for e in lending-desk reading-room bookmobile; do {_vembar} capture {At("world")}/references/$e {At("w.vmb")} --name $e "
            + $"-q --effort quick; done");
    }

    private void Looking()
    {
        if (!Wanted("look"))
            return;
        World();
        var m = InTurn(
            ("", $"{_vembar} list {At("w.vmb")}"), ("", $"{_vembar} show {At("w.vmb")}#1"),
            ("", $"{_vembar} files {At("w.vmb")}#1 Windows/INF"), ("", $"{_vembar} files {At("w.vmb")}#1 --deep"));
        Row("list, show, files, files of everything in an archive of 100,000 files", "≤ 0.25 s, ≤ 120 MiB",
            string.Join(", ", m.Select(x => $"{x.Seconds:0.00} s")) + $", {m.Max(x => x.MemoryKib) / 1024} MiB",
            m.All(x => x.Seconds <= 0.25) && m.Max(x => x.MemoryKib) <= 120 * 1024);
    }

    // Beside finding which files are the same by reading all of them.
    private void Reporting()
    {
        if (!Wanted("report"))
            return;
        World();
        var m = InTurn(
            ("", $"{_vembar} report {At("w.vmb")} --out {At("report.html")} --overwrite -q"),
            ("", $"find {At("world")}/references -type f -print0 | xargs -0 b3sum | LC_ALL=C sort > {At("report.sums")}"));
        Row("report with its page on an archive of 100,000 files", "≤ 0.5 × b3sum\\|sort of the files, ≤ 400 MiB",
            $"{m[0].Seconds:0.00} s, time {Ratio(m[0].Seconds / m[1].Seconds)}, {m[0].MemoryKib / 1024} MiB",
            m[0].Seconds <= 0.5 * m[1].Seconds && m[0].MemoryKib <= 400 * 1024);
    }

    private void Servicing()
    {
        if (!Wanted("service"))
            return;
        World();
        var m = InTurn(
            ($"cp {At("w.vmb")} {At("s.vmb")}",
            $"{_vembar} service {At("s.vmb")}#1 --driver {At("world")}/drivers/corrin-storage --trust {At("world")}/trust --in-place"),
            ($"cp {At("w.vmb")} {At("s.vmb")}",
            $"{_vembar} service {At("s.vmb")}#1 --answers {At("world")}/answers/lending-desk.xml --in-place"));
        Row("service: a driver, an answer file", "≤ 1.5 s, ≤ 200 MiB",
            string.Join(", ", m.Select(x => $"{x.Seconds:0.00} s")) + $", {m.Max(x => x.MemoryKib) / 1024} MiB",
            m.All(x => x.Seconds <= 1.5) && m.Max(x => x.MemoryKib) <= 200 * 1024);
        var c = InTurn(
            ($"rm -f {At("c.vmb")}", $"{_vembar} copy {At("w.vmb")}#1 {At("c.vmb")}"),
            ($"rm -f {At("c.bin")}", $"cp {At("c.vmb")} {At("c.bin")} && sync {At("c.bin")}"));
        Row("copy an image between archives", "≤ 1.5 × cp of the same bytes (made durable)",
            $"time {Ratio(c[0].Seconds / c[1].Seconds)}, {c[0].MemoryKib / 1024} MiB", c[0].Seconds <= 1.5 * c[1].Seconds);
    }

    private void Hives()
    {
        if (!Wanted("hives"))
            return;
        Once($"{_vembar} demo {At("hw")} --world-only --without-disks -q");
        var install = $"{At("hw")}/references/lending-desk";
        LargeHives.Make(install);
        LargeHives.WriteKeys(At("keys.reg"));
        LargeHives.WriteDriver(At("many"));
        Once($"{_vembar} capture {install} {At("h.vmb")} --name one -q");
        var changed = InTurn(
            ($"cp {At("h.vmb")} {At("k.vmb")}", $"{_vembar} service {At("k.vmb")}#1 --registry {At("keys.reg")} --as keys"),
            ($"cp {At("h.vmb")} {At("i.vmb")}", $"{_vembar} service {At("i.vmb")}#1 --driver {At("many")} --allow-unsigned --in-place"));
        Row("20,000 keys with 5 values each into a hive of 98 MiB", "≤ 1.5 s, ≤ 250 MiB",
            $"{changed[0].Seconds:0.00} s, {changed[0].MemoryKib / 1024} MiB",
            changed[0].Seconds <= 1.5 && changed[0].MemoryKib <= 250 * 1024);
        Row("a driver of 1,500 ids into a hive of 60,000", "≤ 1 s", $"{changed[1].Seconds:0.00} s, {changed[1].MemoryKib / 1024} MiB",
            changed[1].Seconds <= 1);
        var looked = InTurn(("", $"{_vembar} show {At("k.vmb")}#1"), ("", $"{_vembar} survey {install}"),
            ("", $"{_vembar} diff {At("k.vmb")}#1 {At("k.vmb")}#keys"));
        Row("show, survey, diff of such hives", "≤ 0.3, 0.5, 2 s, ≤ 200 MiB",
            string.Join(", ", looked.Select(x => $"{x.Seconds:0.00} s, {x.MemoryKib / 1024} MiB")),
            looked[0].Seconds <= 0.3 && looked[1].Seconds <= 0.5 && looked[2].Seconds <= 2 && looked.All(x => x.MemoryKib <= 200 * 1024));
        long Software()
        {
            Once($"rm -rf {At("taken")} && {_vembar} take {At("rounds.vmb")}#1 Windows/System32/config/SOFTWARE --to {At("taken")} -q");
            return Length(Directory.EnumerateFiles(At("taken"), "SOFTWARE", SearchOption.AllDirectories).Single());
        }
        Once($"{_vembar} demo {At("rw")} --world-only --without-disks -q && {_vembar} capture {At("rw")}/references/lending-desk "
            + $"{At("rounds.vmb")} --name r -q");
        var before = 0L;
        for (var round = 0; round < 100; round++)
        {
            LargeHives.WriteRound(At("round.reg"), round);
            Once($"{_vembar} service {At("rounds.vmb")}#1 --registry {At("round.reg")} --in-place -q");
            if (round == 0)
                before = Software();
        }
        var after = Software();
        const int Block = 4096;
        Row("a hive of which sixty values change a hundred times", "grows ≤ 1 %, or by one block", $"{before:N0} to {after:N0} bytes",
            after - before <= Math.Max(Block, before / 100));
    }

    private void Pool()
    {
        if (!Wanted("pool"))
            return;
        World();
        DriverPool.Write(At("pool"));
        for (var model = 0; model < 3; model++)
            DriverPool.WriteModel(At($"model{model}.yaml"), model);
        var models = string.Join(' ', Enumerable.Range(0, 3).Select(m => $"--for {At($"model{m}.yaml")}"));
        var m = InTurn(($"cp {At("w.vmb")} {At("p.vmb")}", $"{_vembar} service {At("p.vmb")}#1 --driver {At("pool")} {models} "
            + $"--allow-unsigned --in-place"), ("", $"{_vembar} drivers {At("pool")} {models}"));
        Row("drivers for three models out of a pool of 700 packages: service, coverage", "≤ 2 s",
            string.Join(", ", m.Select(x => $"{x.Seconds:0.00} s, {x.MemoryKib / 1024} MiB")), m[0].Seconds <= 2);
    }

    private void Compacted()
    {
        if (!Wanted("compacted"))
            return;
        World();
        Once($"rm -f {At("plain.img")} {At("compact.img")}; {_vembar} deploy {At("w.vmb")}#1 {At("plain.img")} --size '12 GiB' -q; "
            + $"{_vembar} deploy {At("w.vmb")}#1 {At("compact.img")} --size '12 GiB' --compact programs -q");
        var m = InTurn(
            ($"rm -f {At("d.vmb")}", $"{_vembar} capture {At("compact.img")} {At("d.vmb")} --name compact"),
            ($"rm -f {At("d.vmb")}", $"{_vembar} capture {At("plain.img")} {At("d.vmb")} --name plain"));
        Row("capture a volume whose program files are compacted", "≤ 1.3 × the same volume plain",
            $"time {Ratio(m[0].Seconds / m[1].Seconds)}, {m[0].MemoryKib / 1024} MiB", m[0].Seconds <= 1.3 * m[1].Seconds);
    }

    private void Verifying()
    {
        if (!Wanted("verify"))
            return;
        Base();
        Once($"rm -f {At("v.tz")}; tar c {tree} 2>/dev/null | zstd -6 -T0 -q -o {At("v.tz")}");
        var m = InTurn(("", $"{_vembar} verify {At("b.vmb")}"), ("", $"zstd -tq {At("v.tz")}"));
        Row("verify", "≤ 1.2 × zstd -t of the same data", $"time {Ratio(m[0].Seconds / m[1].Seconds)}, {m[0].MemoryKib / 1024} MiB",
            m[0].Seconds <= 1.2 * m[1].Seconds);
    }

    // Without its header, so that nothing of the index is used; what is saved is written out once.
    private void Recovering()
    {
        if (!Wanted("recover"))
            return;
        Base();
        Once($"cp {At("b.vmb")} {At("h.vmb")} && head -c 8 /dev/zero | dd of={At("h.vmb")} conv=notrunc status=none");
        var m = InTurn(($"rm -f {At("r.vmb")}", $"{_vembar} verify {At("h.vmb")} --recover {At("r.vmb")} -q"),
            ("", $"{_vembar} verify {At("b.vmb")} -q"), ($"rm -f {At("r.vmb")}", $"cp {At("b.vmb")} {At("r.vmb")} && sync {At("r.vmb")}"));
        Row("recover an archive without its header", "≤ 3 × verify and a copy of it, ≤ 400 MiB",
            $"time {Ratio(m[0].Seconds / m[1].Seconds)} × verify, {Ratio(m[0].Seconds / (m[1].Seconds + m[2].Seconds))} × verify and cp, "
            + $"{m[0].MemoryKib / 1024} MiB",
            m[0].Seconds <= 3 * (m[1].Seconds + m[2].Seconds) && m[0].MemoryKib <= 400 * 1024);
        Once($"rm -f {At("h.vmb")} {At("r.vmb")}");
    }

    private void Deploying()
    {
        if (!Wanted("deploy"))
            return;
        Base();
        var target = Directory.Exists("/dev/shm") ? $"/dev/shm/vembar-bench-{Environment.ProcessId}" : At("out");
        var m = InTurn(
            ($"rm -rf {target}", $"{_vembar} deploy {At("b.vmb")}#1 {target} -q"),
            ($"rm -rf {target}", $"unsquashfs -q -n -d {target} {At("b.sq")}"));
        Once($"rm -rf {target}");
        Row("deploy to a folder (in memory)", "≤ 0.8 × unsquashfs",
            $"time {Ratio(m[0].Seconds / m[1].Seconds)}, {m[0].MemoryKib / 1024} MiB", m[0].Seconds <= 0.8 * m[1].Seconds);
    }

    private void Places()
    {
        if (!Wanted("places"))
            return;
        Base();
        using var servers = new PlaceServers(_work);
        var (web, registry) = ($"{servers.Web}/b.vmb", $"{servers.Registry}/bench/tree");
        var target = Directory.Exists("/dev/shm") ? $"/dev/shm/vembar-bench-{Environment.ProcessId}" : At("out");
        var once = $"VEMBAR_CACHE={At("cache")} {_vembar}";
        Once($"{once} copy {At("b.vmb")}#1 {registry} -q");
        var looked = InTurn(("", $"{once} list {web}"), ("", $"{once} list {registry}"), ("", $"{once} files {web}#1"));
        Row("places: list by a web server, list by a registry, files by a web server", "≤ 0.3 s",
            string.Join(", ", looked.Select(x => $"{x.Seconds:0.00} s")), looked.All(x => x.Seconds <= 0.3));
        var clean = $"rm -rf {target} {At("cache")}";
        var m = InTurn((clean, $"{_vembar} deploy {At("b.vmb")}#1 {target} -q"), (clean, $"{once} deploy {web}#1 {target} -q"),
            (clean, $"{once} deploy {registry}#1 {target} -q"), ($"rm -rf {target}", $"{once} deploy {registry}#1 {target} -q"));
        Once($"rm -rf {target}");
        Row("places: deploy by a web server, by a registry, again with what is kept", "≤ 1.15, ≤ 1.3 × the same from a local file",
            $"time {Ratio(m[1].Seconds / m[0].Seconds)}, {Ratio(m[2].Seconds / m[0].Seconds)}, {Ratio(m[3].Seconds / m[0].Seconds)}, "
            + $"{m[1..].Max(x => x.MemoryKib) / 1024} MiB", m[1].Seconds <= 1.15 * m[0].Seconds && m[2].Seconds <= 1.3 * m[0].Seconds);
        Once($"rm -rf {At("edition")} && mkdir {At("edition")} && cp -r {tree}/python3* {At("edition")}/ 2>/dev/null; "
            + $"date > {At("edition")}/new && cp {At("b.vmb")} {At("two.vmb")}");
        var before = Length(At("two.vmb"));
        Once($"{_vembar} capture {At("edition")} {At("two.vmb")} --name edition -q");
        long Sent() => new DirectoryInfo(At("registry")).EnumerateFiles("data", SearchOption.AllDirectories).Sum(f => f.Length);
        var sent = Sent();
        Once($"{once} copy {At("two.vmb")}#edition {registry} -q");
        var (added, more) = (Length(At("two.vmb")) - before, Sent() - sent);
        Row("places: a second edition to a registry", "≤ 1.02 × the bytes that it adds locally", Ratio((double)more / added),
            more <= 1.02 * added);
    }

    private void Station()
    {
        // As long as a fleet is at it, where that alone is asked for.
        var minutes = rows.Equals("station: ten minutes", StringComparison.OrdinalIgnoreCase) ? 10 : 1;
        if (minutes == 1 && !Wanted("station"))
            return;
        // A desktop with a large folder, so that there is something to write.
        Once($"{_vembar} demo {At("world")} --world-only --without-disks -q && "
            + $"{_vembar} capture {At("world")}/references/lending-desk {At("small.vmb")} --name Small -q && "
            + $"cp -r /usr/share/doc /usr/share/locale "
            + $"\"{At("world")}/references/lending-desk/Program Files/\" 2>/dev/null; "
            + $"{_vembar} capture {At("world")}/references/lending-desk {At("desk.vmb")} --name Desk -q");
        var port = LoopbackServers.Port();
        var address = string.Create(CultureInfo.InvariantCulture, $"https://127.0.0.1:{port}");
        File.WriteAllText(At("station.yaml"), $"listen: '127.0.0.1:{port}'\ndata: {At("station")}\naddresses: ['{address}']\n"
            + $"archives: {{ desks: {At("desk.vmb")}, small: {At("small.vmb")} }}\napprove: always\nimage: Desk\n"
            + "names: 'TVL-{number:4}'\n");
        using var server = Process.Start(new ProcessStartInfo(Path.Combine(Path.GetDirectoryName(_vembar)!, "station/vembar-station"),
            ["--config", At("station.yaml")])
        { RedirectStandardOutput = true, RedirectStandardError = true })!;
        _ = server.StandardError.ReadToEndAsync();
        var token = "";
        while (token.Length == 0 && server.StandardOutput.ReadLine() is { } line)
            token = line.Contains("vst_", StringComparison.Ordinal) ? line.Trim() : "";
        try
        {
            var (sys, disk) = (At("sys"), At("disk.img"));
            Directory.CreateDirectory(sys);
            // Each time another machine, as the same one is asked about.
            var identity = $"mkdir -p {sys}/class/dmi/id && date +SN-%s%N > {sys}/class/dmi/id/product_serial";
            var m = InTurn(($"rm -f {disk}", $"{_vembar} deploy {At("desk.vmb")}#1 {disk} --size 12GiB --computer-name TVL-1 --verify -q"),
                ($"rm -rf {disk} {At("cache")} && truncate -s 12G {disk} && mkdir -p {sys}/firmware/efi && {identity}",
                $"VEMBAR_CACHE={At("cache")} {_vembar} station join {address} --ca {At("station/authority.pem")} --from {sys} "
                + $"--disk {disk} --once -q"));
            Row("station: one machine", "≤ 1.2 × the same from a local archive", $"time {Ratio(m[1].Seconds / m[0].Seconds)}, "
                + $"{m[1].MemoryKib / 1024} MiB", m[1].Seconds <= 1.2 * m[0].Seconds);
            Twenty(address, token, sys, server);
            var (p99, requests, lost) = new FleetLoad(address, At("station/authority.pem"), token, At("spool"))
                .RunAsync(500, TimeSpan.FromMinutes(minutes)).GetAwaiter().GetResult();
            server.Refresh();
            var memory = server.PeakWorkingSet64 >> 20;
            Row($"station: 500 machines that report every two seconds for {(minutes == 1 ? "a minute" : $"{minutes} minutes")}",
                "99th percentile ≤ 100 ms, no event lost, ≤ 600 MiB",
                string.Create(CultureInfo.InvariantCulture, $"{p99 * 1000:0} ms of {requests} requests, {lost} lost, {memory} MiB, ")
                + $"{server.TotalProcessorTime.TotalSeconds:0} s of processor", p99 <= 0.1 && lost == 0 && memory <= 600);
        }
        finally
        {
            server.Kill();
            server.WaitForExit();
        }
    }

    // Each has a disk of its own; what the station sent is in its metrics.
    private void Twenty(string address, string token, string sys, Process server)
    {
        const int Machines = 20;
        for (var number = 0; number < Machines; number++)
            Once($"cp -r {sys} {sys}-{number} && echo TWENTY-{number} > {sys}-{number}/class/dmi/id/product_serial && "
                + $"truncate -s 4G {At($"twenty-{number}.img")}");
        using var trusting = new HttpClientHandler
        {
            ServerCertificateCustomValidationCallback = HttpClientHandler.DangerousAcceptAnyServerCertificateValidator,
        };
        using var client = new HttpClient(trusting);
        long Sent() => (long)double.Parse(client.GetStringAsync($"{address}/metrics").GetAwaiter().GetResult().Split('\n')
            .First(l => l.StartsWith("station_archive_bytes", StringComparison.Ordinal)).Split(' ')[1], CultureInfo.InvariantCulture);
        new FleetLoad(address, At("station/authority.pem"), token, At("spool"))
            .ListAsync(Enumerable.Range(0, Machines).Select(n => ($"TWENTY-{n}", "small#Small"))).GetAwaiter().GetResult();
        server.Refresh();
        var (before, processor, clock) = (Sent(), server.TotalProcessorTime, Stopwatch.StartNew());
        var all = Enumerable.Range(0, Machines).Select(number => Process.Start(new ProcessStartInfo("sh", ["-c",
            $"VEMBAR_CACHE={At("none")}-{number} {_vembar} station join {address} --ca {At("station/authority.pem")} --from {sys}-{number} "
            + $"--disk {At($"twenty-{number}.img")} --once -q"]))!).ToList();
        var failed = 0;
        foreach (var machine in all)
        {
            machine.WaitForExit();
            failed += machine.ExitCode == 0 ? 0 : 1;
            machine.Dispose();
        }
        server.Refresh();
        var (sent, memory) = (Sent() - before, server.PeakWorkingSet64 >> 20);
        Row("station: 20 machines at once", "bytes ≤ 20 × image (about 1.8 × its archive), ≤ 600 MiB",
            string.Create(CultureInfo.InvariantCulture,
            $"{(double)sent / (Machines * Length(At("small.vmb"))):0.00} × 20 archives, {memory} MiB, {clock.Elapsed.TotalSeconds:0} s, ")
            + $"{(server.TotalProcessorTime - processor).TotalSeconds:0.0} s of processor, {failed} failed",
            sent <= 1.8 * Machines * Length(At("small.vmb")) && memory <= 600 && failed == 0);
        Once($"rm -f {At("twenty-*.img")}");
    }

    // What one sends to many; each of them loses datagrams of its own.
    private void Waves()
    {
        const int Bytes = 12 << 20, Few = 20, Many = 200;
        const double Rate = 8e6, Loss = 1, Seconds = Bytes * 8 / Rate;
        if (!Wanted("waves") || !MulticastSession.IsThere)
            return;
        string Sent(WaveLoad load) => string.Create(CultureInfo.InvariantCulture, $"{(double)load.Sent / Bytes:0.00} ×");
        var quiet = new[] { 1, Few, Many }.Select(n => WaveLoad.Run(n, Bytes, Rate, 0)).ToList();
        Row("waves: what is sent to 1, 20 and 200 that hear all", "the same, ± 1 %", string.Join(", ", quiet.Select(Sent)),
            quiet.All(l => l.IsWhole && l.Sent <= quiet[0].Sent * 1.01));
        var lossy = new[] { 1, Few, Many }.Select(n => WaveLoad.Run(n, Bytes, Rate, Loss)).ToList();
        Row("waves: what is sent to 1, 20 and 200, each without 1 % of its own", "≤ 1.2 × to 20; all whole",
            string.Join(", ", lossy.Select(Sent)) + string.Create(CultureInfo.InvariantCulture,
            $"; the last of 20 after {lossy[1].Seconds / Seconds:0.00} × the time that the rate needs"),
            lossy.All(l => l.IsWhole) && lossy[1].Sent <= 1.2 * Bytes);
    }

    private void WriteReport()
    {
        var report = new StringBuilder();
        report.AppendLine("# Performance").AppendLine();
        report.AppendLine("Written by `make bench`: the built program beside general tools on the same data in the same run, each in "
            + "turn. Figures are ratios where a peer");
        report.AppendLine("does the same work; below one is faster or smaller than the peer. Memory is the peak of the process.")
            .AppendLine();
        report.AppendLine("| work | to reach | reached | there |").AppendLine("|---|---|---|---|");
        foreach (var row in _table)
            report.AppendLine(row);
        report.AppendLine()
            .AppendLine("What limits the rows that are not there yet, and what was learnt on the way, is in "
                + "[performance-notes.md](performance-notes.md).");
        report.AppendLine().AppendLine("## Raw figures").AppendLine().Append(_raw);
        if (rows.Length == 0)
            File.WriteAllText("docs/performance.md", report.ToString());
        Console.WriteLine(string.Join('\n', _table));
        var worse = _history.Close(isKept: times > 1 && tree == UsualTree);
        Console.WriteLine(worse.Count == 0 ? "no row is worse by 15 % than its median"
            : $"worse by 15 % than the median:\n{string.Join('\n', worse)}");
    }
}
