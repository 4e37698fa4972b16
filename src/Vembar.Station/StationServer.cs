using System.Net;
using Microsoft.AspNetCore.Server.Kestrel.Core;
using Microsoft.Extensions.Hosting.Systemd;
using Vembar.Common;
using Vembar.Operations;
using Vembar.Operations.Stations.Contract;
using Vembar.Station.Archives;
using Vembar.Station.Attending;
using Vembar.Station.Boot;
using Vembar.Station.Database;
using Vembar.Station.Hosting;
using Vembar.Station.Interface;
using Vembar.Station.Machines;
using Vembar.Station.Observing;
using Vembar.Station.People;
using Vembar.Station.Waves;
using Vembar.Store.Places;
using Vembar.Store.Places.Remote;

namespace Vembar.Station;

/// <summary>A station, from its start to its end.</summary>
public sealed class StationServer : IAsyncDisposable
{
    private static readonly TimeSpan s_drain = TimeSpan.FromSeconds(60);
    private readonly WebApplication _app;
    private readonly StationDatabase _database;
    private readonly PlaceFileSystem _files;
    private readonly CancellationTokenSource _ending = new();
    private Task _background = Task.CompletedTask;

    private StationServer(WebApplication app, StationDatabase database, PlaceFileSystem files, StationSettings settings)
    {
        _app = app;
        _database = database;
        _files = files;
        Settings = settings;
    }

    /// <summary>What its file says.</summary>
    public StationSettings Settings { get; }

    /// <summary>The first administrator's token, where it was made at this start; null else.</summary>
    public string? FirstToken { get; private set; }

    /// <summary>The addresses that others reach it at, once it has begun.</summary>
    public IReadOnlyList<string> Addresses => _app.Services.GetRequiredService<StationRegister>().Own;

    /// <summary>The addresses that it listens at.</summary>
    public IReadOnlyList<string> Listening => [.. _app.Urls.Where(u => u.StartsWith("https:", StringComparison.Ordinal))];

    /// <summary>Makes ready whatever a station needs; nothing listens yet.</summary>
    /// <exception cref="VembarException">Something is in the way.</exception>
    public static async Task<StationServer> PrepareAsync(StationOptions options, CancellationToken cancellation)
    {
        try
        {
            Directory.CreateDirectory(options.Data, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        }
        catch (Exception failure) when (VembarException.From(failure, "make the folder", options.Data) is { } error)
        {
            throw error;
        }
        var settings = new StationSettings(options);
        var clock = TimeProvider.System;
        var database = await StationDatabase.OpenAsync(options.Database ?? Path.Combine(options.Data, "station.db"), cancellation)
            .ConfigureAwait(false);
#pragma warning disable CA2000 // owned by what is returned
        var files = new PlaceFileSystem(LocalFileSystem.Instance, () => new PlaceOptions
        {
            CaFile = options.Ca,
            Blocks = new DiskBlockStore(Path.Combine(options.Data, "cache"), options.Cache),
            Credentials = new Operations.Access.PlaceLogins(Environment.GetEnvironmentVariable).Find,
            SpoolFolder = Path.Combine(options.Data, "spool"),
        });
#pragma warning restore CA2000
        var host = new OperationHost { Files = files, TemporaryFolder = Path.GetTempPath(), Clock = clock };
        var app = Build(options, settings, database, host, clock);
        var server = new StationServer(app, database, files, settings);
        server.FirstToken = await app.Services.GetRequiredService<TokenStore>().MakeFirstAsync(cancellation).ConfigureAwait(false);
        return server;
    }

    private static WebApplication Build(StationOptions options, StationSettings settings, StationDatabase database, OperationHost host,
        TimeProvider clock)
    {
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.Logging.AddJsonConsole(console => console.UseUtcTimestamp = true);
        builder.Logging.Services.Configure<Microsoft.Extensions.Logging.Console.ConsoleLoggerOptions>(console =>
            console.LogToStandardErrorThreshold = LogLevel.Trace);
        builder.Logging.AddFilter("Microsoft", LogLevel.Warning);
        builder.Services.AddSystemd();
        builder.Services.Configure<HostOptions>(o => o.ShutdownTimeout = s_drain);
        builder.Services.ConfigureHttpJsonOptions(json =>
        {
            json.SerializerOptions.TypeInfoResolverChain.Insert(0, StationJson.Default);
            json.SerializerOptions.TypeInfoResolverChain.Insert(1, TailJson.Default);
            json.SerializerOptions.TypeInfoResolverChain.Insert(2, PageJson.Default);
        });
        // What makes no sense is answered like everything else that is wrong.
        builder.Services.Configure<RouteHandlerOptions>(o => o.ThrowOnBadRequest = true);
        builder.Services.AddOpenApi();
        builder.Services.AddSingleton(settings).AddSingleton(database).AddSingleton(host).AddSingleton(clock)
            .AddSingleton<ChangeFeed>().AddSingleton<MachineStore>().AddSingleton<ProgressBoard>().AddSingleton<StationArchives>()
            .AddSingleton<ArchiveFiles>().AddSingleton<MachineService>().AddSingleton<TokenStore>().AddSingleton<AuditLog>()
            .AddSingleton<Access>().AddSingleton<TailStore>().AddSingleton<SlowDown>()
            .AddSingleton<AttendedService>().AddSingleton<StationRegister>().AddSingleton<StarterChoice>().AddSingleton<BootService>()
            .AddSingleton<MachinePower>().AddSingleton<WaveStore>().AddSingleton<WaveService>();
        var listen = ListenAddress.Parse(options.Listen)
            ?? throw new VembarException(ErrorKind.Usage, "bad-listen", $"'{options.Listen}' is not HOST:PORT",
            "Write *:8470 for instance.");
        var certificate = new ServerCertificate(options, clock);
        // What is wrong with it is told now, and not to the first who comes.
        certificate.Present();
        builder.WebHost.ConfigureKestrel(kestrel =>
        {
            kestrel.AddServerHeader = false;
            kestrel.Limits.MaxRequestBodySize = 1 << 20;
            kestrel.Limits.MaxConcurrentConnections = 20_000;
            void Https(ListenOptions o) => o.UseHttps(https => https.ServerCertificateSelector = (_, _) => certificate.Present());
            if (listen.Address is { } address)
                kestrel.Listen(address, listen.Port, Https);
            else
                kestrel.ListenAnyIP(listen.Port, Https);
            // Boot loaders of today have no TLS; what they get is nobody's secret.
            if (options.Boot.Mode != BootMode.Off)
                kestrel.Listen(System.Net.IPAddress.Parse(options.Boot.Address), options.Boot.Port);
        }).UseKestrelHttpsConfiguration();
        var app = builder.Build();
        app.Use(BootEndpoints.GuardAsync);
        app.Use(ProblemAnswers.HandleAsync);
        app.Use(async (context, next) =>
        {
            var began = clock.GetTimestamp();
            await next(context).ConfigureAwait(false);
            var route = (context.GetEndpoint() as RouteEndpoint)?.RoutePattern.RawText ?? "";
            StationMetrics.Requests.WithLabels(route, $"{context.Response.StatusCode}").Observe(clock.GetElapsedTime(began).TotalSeconds);
        });
        app.UseRouting();
        app.MapOpenApi();
        MachineEndpoints.Map(app);
        PeopleEndpoints.Map(app);
        ArchiveEndpoints.Map(app);
        ObservingEndpoints.Map(app);
        PageEndpoints.Map(app);
        WaveEndpoints.Map(app);
        BootEndpoints.Map(app);
        return app;
    }

    /// <summary>Begins to listen.</summary>
    /// <exception cref="VembarException">It cannot listen there.</exception>
    public async Task StartAsync(CancellationToken cancellation)
    {
        try
        {
            await _app.StartAsync(cancellation).ConfigureAwait(false);
        }
        catch (IOException failure)
        {
            throw VembarException.Environment("cannot-listen", $"the station cannot listen at '{Settings.Options.Listen}': "
                + $"{(failure.InnerException ?? failure).Message}", "Choose another address with --listen, or stop what listens there.");
        }
        var services = _app.Services;
        var register = services.GetRequiredService<StationRegister>();
        register.Own = Settings.Options.Addresses.Count > 0 ? Settings.Options.Addresses
            : [.. Listening.Select(a => a.Replace("[::]", Dns.GetHostName(), StringComparison.Ordinal)
                .Replace("0.0.0.0", Dns.GetHostName(), StringComparison.Ordinal))];
        await register.UpdateAsync(cancellation).ConfigureAwait(false);
        _background = Task.WhenAll(services.GetRequiredService<ChangeFeed>().RunAsync(_ending.Token),
            services.GetRequiredService<ProgressBoard>().RunAsync(_ending.Token), register.RunAsync(_ending.Token),
            services.GetRequiredService<BootService>().RunAsync(_ending.Token),
            services.GetRequiredService<WaveService>().RunAsync(_ending.Token));
    }

    /// <summary>Waits until it is told to end, and has ended what it was at.</summary>
    public Task WaitAsync(CancellationToken cancellation) => _app.WaitForShutdownAsync(cancellation);

    /// <inheritdoc/>
    public async ValueTask DisposeAsync()
    {
        await _ending.CancelAsync().ConfigureAwait(false);
        await _background.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        await _app.DisposeAsync().ConfigureAwait(false);
        _files.Dispose();
        await _database.DisposeAsync().ConfigureAwait(false);
        _ending.Dispose();
    }
}
