using System.CommandLine;
using System.Diagnostics;
using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using System.Text.Json.Serialization.Metadata;
using Serilog;
using Serilog.Formatting.Compact;
using Vembar.Cli.Json;
using Vembar.Common;
using Vembar.Common.Files;
using Vembar.Images.Records;
using Vembar.Operations;
using Vembar.Operations.Access;
using Vembar.Operations.Project;
using Vembar.Operations.Stations;
using Vembar.Store.Places;
using Vembar.Store.Places.Remote;

namespace Vembar.Cli;

/// <summary>One run of the program: where output goes, progress, the log, interruption, and how errors are told.</summary>
internal sealed class Session : IDisposable
{
    private readonly bool _plain;
    private readonly CancellationTokenSource _stop = new();
    private readonly List<PosixSignalRegistration> _signals = [];
    private readonly List<string> _notices = [];
    private readonly Serilog.Core.Logger? _log;
    private readonly Stopwatch _clock = Stopwatch.StartNew();

    /// <summary>What the work gets from this program.</summary>
    public OperationHost Host { get; }

    /// <summary>Who one is at which place.</summary>
    public PlaceLogins Logins { get; } = new(Environment.GetEnvironmentVariable);

    /// <summary>What is kept of archives that are far away.</summary>
    public CacheFolder Cache { get; } = new(Environment.GetEnvironmentVariable);

    private readonly PlaceFileSystem _places;
    private readonly Lazy<PlaceOptions> _placeOptions;

    /// <summary>How places and stations are talked to.</summary>
    public PlaceOptions PlaceOptions => _placeOptions.Value;

    /// <summary>Speaks to a station.</summary>
    public StationClient Station(string address) => new(address, PlaceOptions);

    /// <summary>Says what is waited for or done now; on standard error.</summary>
    public void Tell(string text)
    {
        Progress.Clear();
        _log?.Information("{Text}", text);
        Terminal.Write(Console.Error, Console.IsErrorRedirected, text);
    }

    private Session(ParseResult parse)
    {
        CommandLine = parse;
        Json = parse.GetValue(CommonOptions.Json);
        Verbose = parse.GetValue(CommonOptions.Verbose);
        Quiet = parse.GetValue(CommonOptions.Quiet);
        MayOverwrite = parse.GetValue(CommonOptions.Overwrite);
        _plain = Console.IsOutputRedirected || parse.GetValue(CommonOptions.Plain)
            || !string.IsNullOrEmpty(Environment.GetEnvironmentVariable("NO_COLOR"));
        _plain = _plain || Environment.GetEnvironmentVariable("TERM") is null or "dumb";
        if (parse.GetValue(CommonOptions.Log) is { } log)
            _log = OpenLog(log, MayOverwrite, parse);
        Progress = new Progress(Console.Error, !Console.IsErrorRedirected, _plain, Quiet,
            phase => _log?.Information("{Phase} began", phase));
        Project = parse.CommandResult.Command.Name == "init" ? null : FindProject(parse);
        _placeOptions = new Lazy<PlaceOptions>(() => new PlaceOptions
        {
            Credentials = Logins.Find,
            CaFile = parse.GetValue(CommonOptions.Ca) ?? Default("ca", Project?.Ca),
            Insecure = parse.GetValue(CommonOptions.Insecure),
            Blocks = Cache.Blocks,
            Cancellation = _stop.Token,
            SpoolFolder = Cache.SpoolFolder(Path.GetTempPath()),
            Sent = (done, total) => Progress.Report(new OperationProgress("sending", done, total, true, "")),
        });
        _places = new PlaceFileSystem(LocalFileSystem.Instance, () => PlaceOptions) { Told = Notice };
        Host = new OperationHost
        {
            Memory = new CollectorPolicy(),
            Files = _places,
            Versions = Project?.Versions ?? VersionPattern.Standard,
        };
        foreach (var signal in (PosixSignal[])[PosixSignal.SIGINT, PosixSignal.SIGTERM, PosixSignal.SIGHUP])
        {
            _signals.Add(PosixSignalRegistration.Create(signal, context =>
            {
                // The first asks to stop and clean up; a second one is not held back. While input is waited for, there is nothing to
                // clean up.
                context.Cancel = !_stop.IsCancellationRequested && !InputFile.IsWaiting;
                _stop.Cancel();
            }));
        }
    }

    /// <summary>What the organisation says for all commands; null for nothing.</summary>
    public ProjectFile? Project { get; }

    private ProjectFile? FindProject(ParseResult parse)
    {
        var named = parse.GetValue(CommonOptions.Project) ?? Environment.GetEnvironmentVariable("VEMBAR_PROJECT");
        if (!string.IsNullOrEmpty(named))
            return ProjectFile.Read(named);
        var found = ProjectFile.Find(Directory.GetCurrentDirectory(), out var passedOver);
        if (passedOver is not null)
            Warn([$"'{passedOver}' belongs to somebody else and is not used; --project names it"]);
        return found is null ? null : ProjectFile.Read(found);
    }

    /// <summary>Says, when asked to say more, what was taken from the project file.</summary>
    /// <param name="key">The key.</param>
    /// <param name="value">What stands there; null for nothing.</param>
    /// <returns>The same.</returns>
    public T? Default<T>(string key, T? value)
    {
        var text = value is IEnumerable<string> texts ? string.Join(", ", texts) : value?.ToString() ?? "";
        if (Verbose && text.Length > 0)
            Warn([$"{key}: {text}, from {Project!.Path}"]);
        return value;
    }

    // A log is added to; anything else that is there stays.
    private static Serilog.Core.Logger OpenLog(string path, bool mayOverwrite, ParseResult parse)
    {
        try
        {
            if (Directory.Exists(path))
                throw VembarException.Input("not-a-file", $"'{path}' is a folder; the log is a file", "Name a file with --log.");
            if (Path.Exists(path))
            {
                using var there = InputFile.OpenRead(path);
                var head = new byte[Math.Min(there.Length, LogMark.Length)];
                there.ReadExactly(head);
                if (head.Length > 0 && !head.AsSpan().SequenceEqual(LogMark) && !mayOverwrite)
                    throw VembarException.Input("output-exists", $"'{path}' is there already, and is no log of a run",
                        "Name another file with --log, or write over it with --overwrite.");
                if (head.Length > 0 && !head.AsSpan().SequenceEqual(LogMark))
                {
                    Overwriting.Check(path, parse);
                    File.WriteAllText(path, "");
                }
            }
            File.AppendAllText(path, "");
        }
        catch (Exception failure) when (failure is not VembarException && VembarException.From(failure, "write the log", path) is { } error)
        {
            throw error;
        }
        return new LoggerConfiguration().WriteTo.File(new CompactJsonFormatter(), path).CreateLogger();
    }

    // What every line of a log begins with.
    private static ReadOnlySpan<byte> LogMark => "{\"@t\":\""u8;

    /// <summary>Whether files beside the output may take the place of any that are there.</summary>
    public bool MayOverwrite { get; }

    /// <summary>The command line.</summary>
    public ParseResult CommandLine { get; }

    public bool Json { get; }

    /// <summary>True when output must carry no styles: piped, or asked to be plain.</summary>
    public bool IsPlain => _plain;

    public bool Verbose { get; }

    /// <summary>Whether nothing but errors is told; the exit code says how it went.</summary>
    public bool Quiet { get; }

    /// <summary>Whether people are told what is found and done.</summary>
    public bool IsTold => !Json && !Quiet;

    public Progress Progress { get; }

    public CancellationToken Cancellation => _stop.Token;

    /// <summary>Runs a command's work and turns its errors into lines and exit codes.</summary>
    public static async Task<int> RunAsync(ParseResult parse, Func<Session, Task<int>> work)
    {
        var json = parse.GetValue(CommonOptions.Json);
        var verbose = parse.GetValue(CommonOptions.Verbose);
        Session? session = null;
        try
        {
#pragma warning disable CA2000 // disposed of in the end
            session = new Session(parse);
#pragma warning restore CA2000
            session._log?.Information("{Command} began", parse.CommandResult.Command.Name);
            var code = await work(session).ConfigureAwait(false);
            session._log?.Information("{Command} ended with {ExitCode} after {Seconds} s", parse.CommandResult.Command.Name, code,
                session._clock.Elapsed.TotalSeconds);
            return code;
        }
        // Whatever an interruption breaks first: that is why.
        catch (Exception failure) when (session is { _stop.IsCancellationRequested: true }
            && failure is OperationCanceledException or VembarException or IOException)
        {
            session!.Progress.Clear();
            session._log?.Warning("interrupted");
            // Some work tells itself what it left.
            Errors.Tell(failure as VembarException is { Code: VembarException.Interrupted } told ? told
                : new VembarException(ErrorKind.Environment, VembarException.Interrupted, "interrupted; nothing half-done is left"), json,
                verbose);
            return ExitCode.Interrupted;
        }
        catch (VembarException error)
        {
            session?.Progress.Clear();
            session?._log?.Error(error, "{Code}: {Problem}", error.Code, AdviceText.MessageOf(error));
            Errors.Tell(error, json, verbose);
            return ExitCode.For(error.Kind);
        }
        catch (Exception failure) when (VembarException.From(failure, "finish", parse.CommandResult.Command.Name) is { } error)
        {
            session?.Progress.Clear();
            session?._log?.Error(failure, "{Code}: {Problem}", error.Code, error.Message);
            Errors.Tell(error, json, verbose);
            return ExitCode.For(error.Kind);
        }
        finally
        {
            session?.Dispose();
        }
    }

    /// <summary>Does a piece of work and shows how far it is.</summary>
    public ConfiguredTaskAwaitable<TResult> Do<TRequest, TResult>(IOperationHandler<TRequest, TResult> handler, TRequest request) =>
        DoneAsync(handler, request).ConfigureAwait(false);

    private async Task<TResult> DoneAsync<TRequest, TResult>(IOperationHandler<TRequest, TResult> handler, TRequest request)
    {
        var result = await handler.HandleAsync(request, Progress, Cancellation).ConfigureAwait(false);
        Progress.Finish();
        return result;
    }

    /// <summary>Prints the JSON document, or what people get.</summary>
    public void Result<T>(T document, Func<CliJson, JsonTypeInfo<T>> type, Action forPeople)
    {
        Progress.Clear();
        if (Json)
            Console.Out.WriteLine(_notices.Count == 0 ? JsonSerializer.Serialize(document, type(CliJson.Default))
                : WithNotices(JsonSerializer.SerializeToNode(document, type(CliJson.Default))));
        else if (IsTold)
            forPeople();
    }

    /// <summary>As <see cref="Result"/>, where a text is what was asked for: it is printed, also when nothing else is to be told, or was
    /// written into a file.</summary>
    /// <param name="document">The JSON document.</param>
    /// <param name="type">Its type.</param>
    /// <param name="to">The file; null where the text is printed.</param>
    /// <param name="text">The text.</param>
    /// <param name="written">What people get where it was written.</param>
    public void TextResult<T>(T document, Func<CliJson, JsonTypeInfo<T>> type, string? to, string text, Action<string> written)
    {
        Progress.Clear();
        if (to is null && !Json)
            Console.Out.Write(text);
        else
            Result(document, type, () => written(to!));
    }

    /// <summary>As <see cref="Result"/>, for a document that may be long: it is made piece by piece, and nothing of it is printed until
    /// all of it is there.</summary>
    public void LongResult<T>(Func<T> document, Func<CliJson, JsonTypeInfo<T>> type, Action forPeople)
    {
        Progress.Clear();
        if (!Json)
        {
            if (!Quiet)
                forPeople();
            return;
        }
        using var whole = Scratch();
        JsonSerializer.Serialize(whole, document(), type(CliJson.Default));
        if (_notices.Count > 0)
        {
            // Before the bracket that ends it: such documents have no warnings of their own.
            whole.Position = whole.Length - 1;
            whole.Write(Encoding.UTF8.GetBytes($",\"warnings\":{Notices().ToJsonString()}}}"));
        }
        whole.Position = 0;
        whole.CopyTo(StandardStream.Output);
        StandardStream.Output.Write("\n"u8);
    }

    // A file without a name: it is gone whatever ends this process.
    private static FileStream Scratch()
    {
        var path = Path.Combine(Path.GetTempPath(), $"vembar-{Guid.NewGuid():N}.json");
        try
        {
            var file = new FileStream(path, FileMode.CreateNew, FileAccess.ReadWrite);
            File.Delete(path);
            return file;
        }
        catch (DirectoryNotFoundException)
        {
            throw VembarException.Environment("no-temporary-folder", $"there is no folder '{Path.GetTempPath()}' for temporary files",
                "Make it, or set TMPDIR to one that is there.");
        }
        catch (Exception failure) when (VembarException.From(failure, "write", path) is { } error)
        {
            throw error;
        }
    }

    // What was told of archives while they were opened, beside what the result says itself.
    private string WithNotices(JsonNode? document)
    {
        if (document is JsonObject result)
        {
            var all = Notices();
            if (result["warnings"] is JsonArray own)
                all = new JsonArray([.. own.Concat(all).Select(w => w!.DeepClone())]);
            result["warnings"] = all;
        }
        return document?.ToJsonString() ?? "null";
    }

    private JsonArray Notices() => new([.. _notices.Select(n => JsonValue.Create(n, CliJson.Default.String))]);

    /// <summary>As <see cref="Warn"/>, once, and among the warnings of the JSON document.</summary>
    public void Notice(Notice notice)
    {
        var text = AdviceText.Of(notice);
        lock (_notices)
        {
            if (_notices.Contains(text))
                return;
            _notices.Add(text);
        }
        Warn([text]);
    }

    public static void Line(string text = "") => Terminal.Write(Console.Out, Console.IsOutputRedirected, text);

    /// <summary>A finding behind the word that says how much it matters.</summary>
    public void Finding(string severity, string text)
    {
        const int Column = 6;
        var word = IsPlain ? severity : Styles.ByMeaning(severity);
        var before = word + new string(' ', Column - severity.Length);
        foreach (var line in Terminal.Lines(Console.IsOutputRedirected, text, Column))
        {
            Console.Out.WriteLine(before + line);
            before = new string(' ', Column);
        }
    }

    /// <summary>How it went, in a line; the last of the output.</summary>
    /// <param name="good">Whether all is as it should be.</param>
    /// <param name="text">The line.</param>
    public void Verdict(bool good, string text) => Terminal.Write(Console.Out, Console.IsOutputRedirected, text,
        line => IsPlain ? line : Styles.Verdict(line, good));

    /// <summary>Something to be known that is not the result; on standard error.</summary>
    public void Warn(IEnumerable<string> warnings)
    {
        Progress.Clear();
        foreach (var warning in warnings)
        {
            _log?.Warning("{Warning}", warning);
            if (IsTold)
                Terminal.Write(Console.Error, Console.IsErrorRedirected, $"note: {warning}");
        }
    }

    public void Log(string message) => _log?.Information("{Message}", message);

    public void Dispose()
    {
        Progress.Dispose();
        _places.Dispose();
        foreach (var signal in _signals)
            signal.Dispose();
        _log?.Dispose();
        _stop.Dispose();
    }
}
