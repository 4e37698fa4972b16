using System.Net;
using System.Net.Http.Headers;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using Vembar.Common;
using Vembar.Operations.Stations.Contract;
using Vembar.Store.Places.Remote;

namespace Vembar.Operations.Stations;

/// <summary>Speaks to a station. All members may be used by several threads at once.</summary>
/// <param name="address">The station's address.</param>
/// <param name="options">How it is talked to, and who one is there.</param>
public sealed class StationClient(string address, PlaceOptions options) : IDisposable
{
    private const int LongestAnswer = 64 << 20;
    private readonly HttpExchange _exchange = new(options);

    /// <summary>The station's address, without a slash at its end.</summary>
    public string Address { get; } = address.TrimEnd('/');

    private static StationJson Json => StationJson.Default;

    /// <summary>The machines, those that wait for somebody first.</summary>
    public Task<IReadOnlyList<MachineInfo>> MachinesAsync(CancellationToken cancellation) =>
        GetAsync("/api/machines", Json.IReadOnlyListMachineInfo, cancellation);

    /// <summary>A machine with all that is known of it.</summary>
    /// <param name="machine">Its id, name, serial number, UUID or network address; as much of it as tells it from others.</param>
    /// <param name="cancellation">Ends it.</param>
    public Task<MachineDetail> MachineAsync(string machine, CancellationToken cancellation) =>
        GetAsync(At(machine), Json.MachineDetail, cancellation);

    /// <summary>What happened to a machine, the oldest first.</summary>
    /// <param name="machine">The machine.</param>
    /// <param name="after">Events behind this number alone.</param>
    /// <param name="cancellation">Ends it.</param>
    public Task<IReadOnlyList<MachineEvent>> EventsAsync(string machine, long after, CancellationToken cancellation) =>
        GetAsync($"{At(machine)}/events?after={after}", Json.IReadOnlyListMachineEvent, cancellation);

    /// <summary>Approves a machine: it begins as soon as it can.</summary>
    public Task<MachineInfo> ApproveAsync(string machine, Approval approval, CancellationToken cancellation) =>
        PostAsync($"{At(machine)}/approve", approval, Json.Approval, Json.MachineInfo, cancellation);

    /// <summary>Says what a machine is to become, without approving it.</summary>
    public Task<MachineInfo> AssignAsync(string machine, Approval approval, CancellationToken cancellation) =>
        PostAsync($"{At(machine)}/assign", approval, Json.Approval, Json.MachineInfo, cancellation);

    /// <summary>Has a machine's disk captured.</summary>
    public Task<MachineInfo> CaptureAsync(string machine, CaptureOrder order, CancellationToken cancellation) =>
        PostAsync($"{At(machine)}/capture", order, Json.CaptureOrder, Json.MachineInfo, cancellation);

    /// <summary>Does one of the things with a machine that need no more words: "stop", "retry", "wake".</summary>
    public Task<MachineInfo> DoAsync(string machine, string what, CancellationToken cancellation) =>
        SendAsync(() => Request(HttpMethod.Post, $"{At(machine)}/{what}"), Json.MachineInfo, cancellation);

    /// <summary>Takes a machine off the list.</summary>
    public Task<MachineInfo> ForgetAsync(string machine, CancellationToken cancellation) =>
        SendAsync(() => Request(HttpMethod.Delete, At(machine)), Json.MachineInfo, cancellation);

    /// <summary>Adds machines, and says what they are to become.</summary>
    public Task<ImportAnswer> ImportAsync(IReadOnlyList<ImportRow> rows, CancellationToken cancellation) =>
        PostAsync("/api/machines/import", rows, Json.IReadOnlyListImportRow, Json.ImportAnswer, cancellation);

    /// <summary>What was done there, the newest first.</summary>
    public Task<IReadOnlyList<AuditEntry>> AuditAsync(CancellationToken cancellation) =>
        GetAsync("/api/audit", Json.IReadOnlyListAuditEntry, cancellation);

    /// <summary>The tokens that were given out.</summary>
    public Task<IReadOnlyList<TokenInfo>> TokensAsync(CancellationToken cancellation) =>
        GetAsync("/api/tokens", Json.IReadOnlyListTokenInfo, cancellation);

    /// <summary>Makes a token.</summary>
    public Task<NewToken> AddTokenAsync(TokenOrder order, CancellationToken cancellation) =>
        PostAsync("/api/tokens", order, Json.TokenOrder, Json.NewToken, cancellation);

    /// <summary>Takes a token back: it is good for nothing from now on.</summary>
    public Task<IReadOnlyList<TokenInfo>> RevokeTokenAsync(string name, CancellationToken cancellation) =>
        SendAsync(() => Request(HttpMethod.Delete, $"/api/tokens/{Uri.EscapeDataString(name)}"), Json.IReadOnlyListTokenInfo, cancellation);

    /// <summary>A machine joins.</summary>
    public Task<JoinAnswer> JoinAsync(JoinRequest request, CancellationToken cancellation) =>
        PostAsync("/api/join", request, Json.JoinRequest, Json.JoinAnswer, cancellation);

    /// <summary>A machine asks what it is to do; answered when there is something new, or after a while.</summary>
    /// <param name="state">The state that it knows of; null for being told at once.</param>
    /// <param name="cancellation">Ends it.</param>
    public Task<PollAnswer> PollAsync(MachineState? state, CancellationToken cancellation) =>
        GetAsync(state is null ? "/api/machine/task" : $"/api/machine/task?state={state}", Json.PollAnswer, cancellation);

    /// <summary>A machine tells of its task.</summary>
    public Task<TaskReportAnswer> ReportAsync(TaskReport report, CancellationToken cancellation) =>
        PostAsync("/api/machine/report", report, Json.TaskReport, Json.TaskReportAnswer, cancellation);

    /// <summary>Somebody signs in at the console of a machine.</summary>
    public Task<AttendAnswer> AttendAsync(AttendRequest request, CancellationToken cancellation) =>
        PostAsync("/api/machine/attend", request, Json.AttendRequest, Json.AttendAnswer, cancellation);

    /// <summary>Somebody at the console of a machine approves it.</summary>
    public Task<MachineInfo> ApproveAttendedAsync(AttendedApproval approval, CancellationToken cancellation) =>
        PostAsync("/api/machine/attend/approve", approval, Json.AttendedApproval, Json.MachineInfo, cancellation);

    /// <summary>Waves, the newest first.</summary>
    public Task<IReadOnlyList<WaveInfo>> WavesAsync(CancellationToken cancellation) =>
        GetAsync("/api/waves", Json.IReadOnlyListWaveInfo, cancellation);

    /// <summary>A wave with its machines.</summary>
    public Task<WaveInfo> WaveAsync(string wave, CancellationToken cancellation) =>
        GetAsync($"/api/waves/{Uri.EscapeDataString(wave)}", Json.WaveInfo, cancellation);

    /// <summary>Has many machines get an image at once.</summary>
    public Task<WaveInfo> AddWaveAsync(WaveRequest request, CancellationToken cancellation) =>
        PostAsync("/api/waves", request, Json.WaveRequest, Json.WaveInfo, cancellation);

    /// <summary>Stops a wave.</summary>
    public Task<WaveInfo> StopWaveAsync(string wave, CancellationToken cancellation) =>
        SendAsync(() => Request(HttpMethod.Post, $"/api/waves/{Uri.EscapeDataString(wave)}/stop"), Json.WaveInfo, cancellation);

    /// <summary>What a wave sends, for a machine of it.</summary>
    public Task<WavePlan> WavePlanAsync(string wave, CancellationToken cancellation) =>
        GetAsync($"/api/machine/waves/{Uri.EscapeDataString(wave)}/plan", Json.WavePlan, cancellation);

    /// <summary>A machine says that it leaves.</summary>
    public Task<TaskReportAnswer> LeaveAsync(CancellationToken cancellation) =>
        SendAsync(() => Request(HttpMethod.Delete, "/api/machine"), Json.TaskReportAnswer, cancellation);

    private static string At(string machine) => $"/api/machines/{Uri.EscapeDataString(machine)}";

    private HttpRequestMessage Request(HttpMethod method, string path) =>
        new(method, _exchange.Check($"{Address}{path}", Address));

    private Task<T> GetAsync<T>(string path, JsonTypeInfo<T> type, CancellationToken cancellation) =>
        SendAsync(() => Request(HttpMethod.Get, path), type, cancellation);

    private Task<TAnswer> PostAsync<T, TAnswer>(string path, T what, JsonTypeInfo<T> type, JsonTypeInfo<TAnswer> answer,
        CancellationToken cancellation)
    {
        var bytes = JsonSerializer.SerializeToUtf8Bytes(what, type);
        // The same request sent twice, because its answer was lost, is done once.
        var once = Guid.NewGuid().ToString("N");
        return SendAsync(() =>
        {
            var request = Request(HttpMethod.Post, path);
            request.Content = new ByteArrayContent(bytes);
            request.Content.Headers.ContentType = new MediaTypeHeaderValue("application/json");
            request.Headers.Add("Idempotency-Key", once);
            return request;
        }, answer, cancellation);
    }

    private async Task<T> SendAsync<T>(Func<HttpRequestMessage> make, JsonTypeInfo<T> type, CancellationToken cancellation)
    {
        using var response = await _exchange.SendAsync(Address, make, cancellation).ConfigureAwait(false);
        if (!response.IsSuccessStatusCode)
            throw await _exchange.ReadProblemAsync(response, cancellation).ConfigureAwait(false) ?? NoStation(response.StatusCode);
        try
        {
            using var limit = _exchange.Limit(_exchange.Patience, cancellation);
            await response.Content.LoadIntoBufferAsync(LongestAnswer, limit.Token).ConfigureAwait(false);
            var bytes = await response.Content.ReadAsByteArrayAsync(limit.Token).ConfigureAwait(false);
            return JsonSerializer.Deserialize(bytes, type) ?? throw NoStation(response.StatusCode);
        }
        catch (JsonException)
        {
            throw NoStation(response.StatusCode);
        }
        catch (Exception failure) when (failure is HttpRequestException or IOException)
        {
            throw HttpExchange.Unreachable(Address, failure);
        }
    }

    private VembarException NoStation(HttpStatusCode status) => VembarException.Environment("no-station",
        $"'{Address}' answers {(int)status} and nothing that a station would say", "Check the address.");

    /// <inheritdoc/>
    public void Dispose() => _exchange.Dispose();
}
