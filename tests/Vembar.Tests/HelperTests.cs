using System.Net;
using System.Net.Sockets;
using System.Runtime.InteropServices;
using Vembar.Native;
using Vembar.Native.Helpers;
using Xunit;

namespace Vembar.Tests;

/// <summary>Programs that do a part of the work: what they may do, and how they end.</summary>
public sealed class HelperTests : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    private (int Code, string Output, string Error) Run(string script, Confinement? confinement = null, params SafeHandle[] files)
    {
        var given = files.Select((f, i) => (i, f)).ToDictionary(p => 20 + p.i, p => p.f);
        using var process = HelperProcess.Start(new HelperStart("/bin/bash", ["-c", script]) { Confinement = confinement, Files = given });
        var error = process.Error.ReadToEndAsync();
        var output = process.Output.ReadToEnd();
        process.WaitForExit();
        return (process.ExitCode, output, error.Result);
    }

    [Fact]
    public void ItsOutputAndItsEndAreKnown()
    {
        Assert.Equal((0, "a\n", "b\n"), Run("echo a; echo b >&2"));
        Assert.Equal(7, Run("exit 7").Code);
        Assert.Equal(128 + 15, Run("kill -TERM $$").Code);
        Assert.Equal((0, "", ""), Run("read -r line; echo -n $line"));
        using var writing = HelperProcess.Start(new HelperStart("/bin/cat", []) { HasInput = true });
        writing.Input.Write("go\nthis\n"u8);
        writing.Input.Close();
        Assert.Equal("go\nthis\n", writing.Output.ReadToEnd());
        Assert.Equal(Errno.NotFound, Assert.Throws<NativeException>(() => HelperProcess.Start(new HelperStart("/bin/none", []))).Errno);
        Assert.Equal(Errno.AccessDenied, Assert.Throws<NativeException>(() => HelperProcess.Start(new HelperStart("/etc/passwd",
            []))).Errno);
    }

    [Fact]
    public void ItIsEndedWithAllThatItStarted()
    {
        using var process = HelperProcess.Start(new HelperStart("/bin/bash", ["-c", "sleep 600 & echo $!; wait"]));
        var child = int.Parse(process.Output.ReadLine()!, System.Globalization.CultureInfo.InvariantCulture);
        Assert.False(process.HasExited);
        process.Kill();
        process.WaitForExit();
        Assert.Equal(128 + 9, process.ExitCode);
        Assert.True(SpinWait.SpinUntil(() => !IsAlive(child), 5000));
    }

    private static bool IsAlive(int process) => File.Exists($"/proc/{process}/status")
        && !File.ReadAllText($"/proc/{process}/status").Contains("State:\tZ", StringComparison.Ordinal);

    // PR_SET_PDEATHSIG fires with the thread that started it.
    [Fact]
    public void ItOutlivesTheThreadThatAskedForIt()
    {
        HelperProcess? process = null;
        var thread = new Thread(() => process = HelperProcess.Start(new HelperStart("/bin/sleep", ["600"])));
        thread.Start();
        thread.Join();
        Assert.False(process!.WaitForExit(300));
        process.Dispose();
    }

    [Fact]
    public void AConfinedOneReadsWhatItIsGivenAndNothingElse()
    {
        File.WriteAllText(_folder.At("given"), "given");
        File.WriteAllText(_folder.At("secret"), "secret");
        using var given = Posix.OpenFile(_folder.At("given"), write: true);
        var only = new Confinement([given], []);
        Assert.Equal((0, "given", ""), Run("cat /proc/self/fd/20", only, given));
        Assert.Contains("denied", Run($"cat {_folder.At("secret")}", only, given).Error, StringComparison.Ordinal);
        Assert.Contains("denied", Run("cat /etc/hostname", only, given).Error, StringComparison.Ordinal);
        Assert.Contains("denied", Run("echo x >/proc/self/fd/20", only, given).Error, StringComparison.Ordinal);
        Assert.Contains("denied", Run($"echo x >{_folder.At("new")}", only, given).Error, StringComparison.Ordinal);
        Assert.False(File.Exists(_folder.At("new")));
        Assert.Equal("given", File.ReadAllText(_folder.At("given")));
        Assert.Equal(0, Run("echo x >/proc/self/fd/20", new Confinement([], [given]), given).Code);
        Assert.Equal("x\n", File.ReadAllText(_folder.At("given")));
        // What this process may do is as before.
        Assert.Equal("secret", File.ReadAllText(_folder.At("secret")));
    }

    [Fact]
    public void AConfinedOneHasNoNetwork()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        var script = $"exec 3<>/dev/tcp/127.0.0.1/{((IPEndPoint)listener.LocalEndpoint).Port} && echo through";
        Assert.Equal("through\n", Run(script).Output);
        var confined = Run(script, new Confinement([], []));
        Assert.Equal("", confined.Output);
        Assert.Contains("not permitted", confined.Error, StringComparison.OrdinalIgnoreCase);
        Assert.Equal($"{Confinement.MostMemory}\n0\n", Run("ulimit -v; ulimit -c", new Confinement([], [])).Output);
    }

    private static string StatusOf(string thread)
    {
        try
        {
            return File.ReadAllText(Path.Combine(thread, "status"));
        }
        catch (Exception failure) when (failure is IOException)
        {
            // It has ended meanwhile.
            return "";
        }
    }

    // The runtime starts threads from whichever thread needs one: none may be born confined.
    [Fact]
    public void ManyAtOnceLeaveThisProgramAsItWas()
    {
        File.WriteAllText(_folder.At("given"), "given");
        using var given = Posix.OpenFile(_folder.At("given"), write: false);
        Parallel.For(0, 40, new ParallelOptions { MaxDegreeOfParallelism = 16 },
            _ => Assert.Equal("given", Run("cat /proc/self/fd/20", new Confinement([given], []), given).Output));
        Parallel.For(0, 200, new ParallelOptions { MaxDegreeOfParallelism = 32 }, i =>
        {
            File.WriteAllText(_folder.At($"new-{i}"), "x");
            using var socket = new Socket(AddressFamily.InterNetwork, SocketType.Stream, ProtocolType.Tcp);
        });
        // Those that start helpers are confined, and nothing else runs on them; other tests have theirs.
        foreach (var status in Directory.EnumerateDirectories("/proc/self/task").Select(StatusOf))
            Assert.True(status.Length == 0 || status.StartsWith("Name:\thelper program", StringComparison.Ordinal)
                || status.Contains("Seccomp:\t0", StringComparison.Ordinal), status);
    }
}
