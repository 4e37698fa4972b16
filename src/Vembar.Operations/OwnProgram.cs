using System.Globalization;
using Vembar.Native;
using Vembar.Native.Helpers;

namespace Vembar.Operations;

/// <summary>A program of the organisation's, named in a file of theirs: run to its end or to its time limit, with all that
/// it starts.</summary>
/// <param name="Words">The program and its arguments; no shell reads them.</param>
public sealed record OwnProgram(IReadOnlyList<string> Words)
{
    private const int LongestLine = 200;

    /// <summary>Where it works; empty for where this program does.</summary>
    public string Folder { get; init; } = "";

    /// <summary>What it reads on its standard input.</summary>
    public ReadOnlyMemory<byte> Input { get; init; }

    /// <summary>Variables of its environment.</summary>
    public IReadOnlyDictionary<string, string> Environment { get; init; } = new Dictionary<string, string>();

    /// <summary>The file for what it says; null for nowhere.</summary>
    public string? Log { get; init; }

    /// <summary>Runs it.</summary>
    /// <param name="limit">How long it may take; then it is ended.</param>
    /// <param name="clock">Tells the time.</param>
    /// <param name="cancellation">Ends it.</param>
    /// <returns>What went wrong, to be put behind its name ("ended with 3: no such host"); null where it ended well.</returns>
    /// <exception cref="IOException">Its log cannot be written.</exception>
    /// <exception cref="OperationCanceledException">It was ended.</exception>
    public async Task<string?> RunAsync(TimeSpan limit, TimeProvider clock, CancellationToken cancellation)
    {
        var start = new HelperStart(PathOf(Words[0]), [.. Words.Skip(1)]) { Folder = Folder, HasInput = true, Environment = Environment };
        using var late = new CancellationTokenSource(limit, clock);
        using var either = CancellationTokenSource.CreateLinkedTokenSource(cancellation, late.Token);
        var log = Log is null ? StreamWriter.Null : new StreamWriter(Log, append: false) { AutoFlush = true };
        await using (log.ConfigureAwait(false))
        {
            HelperProcess process;
            try
            {
                process = HelperProcess.Start(start);
            }
            catch (NativeException missing)
            {
                return $"cannot be run: {missing.Message}";
            }
            using (process)
                return await WaitAsync(process, log, limit, either.Token, cancellation).ConfigureAwait(false);
        }
    }

    // Beside this program's folder of work, in its own, or where programs are.
    private string PathOf(string name) => HelperProcess.Find(name) ?? (name.Contains('/', StringComparison.Ordinal)
        ? Path.GetFullPath(name, Path.GetFullPath(Folder.Length > 0 ? Folder : ".")) : name);

    private async Task<string?> WaitAsync(HelperProcess process, StreamWriter log, TimeSpan limit, CancellationToken either,
        CancellationToken cancellation)
    {
        var last = "";
        async Task HearAsync(StreamReader reader)
        {
            while (await reader.ReadLineAsync(either).ConfigureAwait(false) is { } line)
            {
                lock (process)
                {
                    log.WriteLine(line);
                    if (!string.IsNullOrWhiteSpace(line))
                        last = string.Concat(line.Trim().Where(c => !char.IsControl(c)).Take(LongestLine));
                }
            }
        }
        var said = Task.WhenAll(HearAsync(process.Output), HearAsync(process.Error));
        try
        {
            await TellAsync(process, either).ConfigureAwait(false);
            await process.WaitForExitAsync(either).ConfigureAwait(false);
            await said.ConfigureAwait(false);
        }
        catch (OperationCanceledException)
        {
            process.Kill();
            await said.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            cancellation.ThrowIfCancellationRequested();
            return string.Create(CultureInfo.InvariantCulture, $"did not end within ")
                + (limit.TotalMinutes < 2 ? string.Create(CultureInfo.InvariantCulture, $"{limit.TotalSeconds:0} s")
                : string.Create(CultureInfo.InvariantCulture, $"{limit.TotalMinutes:0} min"));
        }
        return process.ExitCode == 0 ? null : string.Create(CultureInfo.InvariantCulture, $"ended with {process.ExitCode}")
            + (last.Length > 0 ? $": {last}" : "");
    }

    private async Task TellAsync(HelperProcess process, CancellationToken cancellation)
    {
        try
        {
            await process.Input.WriteAsync(Input, cancellation).ConfigureAwait(false);
            process.Input.Close();
        }
        catch (IOException)
        {
            // It does not want to know.
        }
    }
}
