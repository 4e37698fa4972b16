using System.Net;
using System.Net.Http.Json;
using System.Text;
using System.Text.Json;
using Vembar.Operations.Stations.Contract;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests.Stations;

/// <summary>What a station answers to requests, whoever sends them.</summary>
public sealed class StationInterfaceTests(World world, PostgresServer postgres) : StationTest(world, postgres)
{
    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres", Traits = ["Set", "Slow"])]
    public async Task NonsenseIsRefusedAndChangesNothing(string database)
    {
        using var station = Begin(database);
        using var client = Raw(station, null);
        async Task Refused(HttpStatusCode status, string code, Task<HttpResponseMessage> sending)
        {
            using var response = await sending;
            Assert.Equal(status, response.StatusCode);
            Assert.Equal(code, (await ProblemOf(response)).Code);
        }
        Task<HttpResponseMessage> Send(string text) =>
            client.PostAsync("/api/join", new StringContent(text, Encoding.UTF8, "application/json"));
        try
        {
            using var large = await Send($"{{\"report\":\"{new string('x', 10 << 20)}\"}}");
            Assert.Equal(HttpStatusCode.RequestEntityTooLarge, large.StatusCode);
        }
        catch (HttpRequestException)
        {
            // It is not read to its end, and whoever sends it may not hear the answer.
        }
        await Refused(HttpStatusCode.BadRequest, "bad-request", Send("{"));
        await Refused(HttpStatusCode.BadRequest, "bad-request", Send("[]"));
        await Refused(HttpStatusCode.BadRequest, "bad-report", Send("{\"report\":null}"));
        await Refused(HttpStatusCode.BadRequest, "no-identity", Join(client, Report(1) with { Identity = new MachineIdentity() }));
        await Refused(HttpStatusCode.BadRequest, "bad-report", Join(client, Report(1) with
        {
            Devices = [.. Enumerable.Range(0, 1001).Select(i => new ReportedDevice($"{i}", ["PCI\\X"], [], false, false))],
        }));
        await Refused(HttpStatusCode.BadRequest, "bad-report", Join(client, Report(1) with { Firmware = "other" }));
        await Refused(HttpStatusCode.Unauthorized, "unknown-machine", client.GetAsync("/api/machine/task"));
        await Refused(HttpStatusCode.Unauthorized, "access-denied", client.GetAsync("/api/machines"));
        await Refused(HttpStatusCode.NotFound, "no-such-address", client.GetAsync("/api/nothing"));
        using var people = station.Client();
        Assert.Empty(await people.MachinesAsync(CancellationToken.None));
    }

    [Fact]
    public async Task NoRequestIsAMistakeOfTheStations()
    {
        using var station = Begin("sqlite");
        using var anyone = Raw(station, null);
        using var joined = await Join(anyone, Report(1));
        var answer = (await joined.Content.ReadFromJsonAsync(StationJson.Default.JoinAnswer))!;
        using var machine = Raw(station, answer.Key);
        using var person = Raw(station, station.Token);
        using var api = JsonDocument.Parse(await anyone.GetStringAsync("/openapi/v1.json"));
        string[] bodies = ["", "null", "[]", "[null]", "{}", "7", "{\"name\":null,\"accept\":null,\"fill\":{\"a\":null},\"report\":{},"
            + "\"identifier\":null,\"events\":null,\"task\":null,\"parts\":null,\"ticket\":null,\"approval\":null}",
            "[{\"identifier\":null,\"name\":\"x\"}]", "{\"accept\":[null],\"name\":\"\\u0000\"}"];
        var tried = 0;
        foreach (var path in api.RootElement.GetProperty("paths").EnumerateObject())
        {
            foreach (var method in path.Value.EnumerateObject().Where(m => m.Name is "post" or "put" or "delete"))
            {
                foreach (var body in bodies)
                {
                    foreach (var client in (HttpClient[])[machine, person])
                    {
                        var address = path.Name.Replace("{machine}", "nobody", StringComparison.Ordinal).Replace("{name}", "fresh",
                            StringComparison.Ordinal).Replace("{id}", new string('a', 32), StringComparison.Ordinal).Replace("{part}", "0",
                            StringComparison.Ordinal);
                        using var request = new HttpRequestMessage(new HttpMethod(method.Name), address)
                        {
                            Content = new StringContent(body, Encoding.UTF8, "application/json"),
                        };
                        using var response = await client.SendAsync(request);
                        Assert.True((int)response.StatusCode < 500 && method.Name + address != "delete/api/tokens/first",
                            $"{method.Name} {address} with {body}: {response.StatusCode} {await response.Content.ReadAsStringAsync()}");
                        tried++;
                    }
                }
            }
        }
        Assert.True(tried > 150);
        using var people = station.Client();
        Assert.Single(await people.MachinesAsync(CancellationToken.None));
    }

    [Fact]
    public async Task AMachineIsNotTakenForAnother()
    {
        using var station = Begin("sqlite");
        using var client = Raw(station, null);
        using var joined = await Join(client, Report(1));
        var first = (await joined.Content.ReadFromJsonAsync(StationJson.Default.JoinAnswer))!;
        // The same identity again, without the key and with another's.
        using (var second = await Join(client, Report(1)))
            Assert.Equal("machine-present", (await ProblemOf(second)).Code);
        using var other = await Join(client, Report(2));
        var key = (await other.Content.ReadFromJsonAsync(StationJson.Default.JoinAnswer))!.Key;
        using (var wrong = await Join(client, Report(1), key))
            Assert.Equal("machine-present", (await ProblemOf(wrong)).Code);
        using (var same = await Join(client, Report(1), first.Key))
            Assert.Equal(HttpStatusCode.OK, same.StatusCode);
        // A machine's key is none of a person's, nor the other way round; and nothing is read with it before somebody approved it.
        using var machine = Raw(station, first.Key);
        using (var read = await machine.GetAsync("/archives/desks"))
        {
            Assert.Equal(HttpStatusCode.Forbidden, read.StatusCode);
            Assert.Equal("not-for-this-machine", (await ProblemOf(read)).Code);
        }
        Assert.Equal(HttpStatusCode.Unauthorized, (await machine.GetAsync("/api/machines")).StatusCode);
        using var person = Raw(station, station.Token);
        Assert.Equal(HttpStatusCode.Unauthorized, (await person.GetAsync("/api/machine/task")).StatusCode);
        Assert.Equal(HttpStatusCode.Forbidden, (await machine.PostAsync("/archives/desks/tails",
            new StringContent("{\"after\":\"\",\"replaces\":false,\"length\":1,\"parts\":[]}", Encoding.UTF8,
            "application/json"))).StatusCode);
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres", Traits = ["Set", "Slow"])]
    public async Task ReportsThatComeTwiceOrLateChangeNothing(string database)
    {
        using var station = Begin(database);
        using var anyone = Raw(station, null);
        using var joined = await Join(anyone, Report(1));
        var answer = (await joined.Content.ReadFromJsonAsync(StationJson.Default.JoinAnswer))!;
        using var people = station.Client();
        await people.ApproveAsync(answer.Machine, new Approval
        {
            Name = "TVL-1",
            Image = Image,
            Fill = new Dictionary<string, string>
            {
                ["password"] = "Secret-1",
            }
        }, CancellationToken.None);
        using var machine = Raw(station, answer.Key);
        async Task<PollAnswer> Poll() => (await machine.GetFromJsonAsync("/api/machine/task", StationJson.Default.PollAnswer))!;
        async Task<TaskReportAnswer> Tell(TaskReport report)
        {
            using var response = await machine.PostAsJsonAsync("/api/machine/report", report, StationJson.Default.TaskReport);
            return (await response.Content.ReadFromJsonAsync(StationJson.Default.TaskReportAnswer))!;
        }
        // What is to be filled in is handed out until the machine says that it has it, and then no more.
        var task = (await Poll()).Task!;
        Assert.Equal("Secret-1", (await Poll()).Task!.Fill["password"]);
        TaskEvent[] events =
            [new TaskEvent(1, DateTime.UtcNow.AddDays(-1), "info", "one"), new TaskEvent(2, DateTime.UtcNow, "info", "two")];
        Assert.True((await Tell(new TaskReport(task.Id, 1, null, events, null))).CarryOn);
        Assert.True((await Tell(new TaskReport(task.Id, 1, null, events, null))).CarryOn);
        Assert.Empty((await Poll()).Task!.Fill);
        TaskProgress Progress(long done) => new("writing files", done, 100, true, 10, 5);
        await Tell(new TaskReport(task.Id, 3, Progress(60), [], null));
        await Tell(new TaskReport(task.Id, 2, Progress(20), [], null));
        Assert.Equal(60, (await people.MachineAsync(answer.Machine, CancellationToken.None)).Machine.Progress!.Done);
        Assert.False((await Tell(new TaskReport("another", 9, null, [], new TaskOutcome { Done = true }))).CarryOn);
        await Tell(new TaskReport(task.Id, 4, null, [], new TaskOutcome { Done = true, Result = new MachineResult { Title = "it" } }));
        await Tell(new TaskReport(task.Id, 4, null, [], new TaskOutcome { Done = true, Result = new MachineResult { Title = "it" } }));
        await Tell(new TaskReport(task.Id, 5, null, [], new TaskOutcome { Done = false, Problem = "late" }));
        Assert.Equal(MachineState.Done, (await people.MachineAsync(answer.Machine, CancellationToken.None)).Machine.State);
        var told = await people.EventsAsync(answer.Machine, 0, CancellationToken.None);
        Assert.Equal(["joined", "approved", "log", "log", "began", "done"], told.Select(e => e.Kind));
    }

    [Fact]
    public void TokensHaveRolesAndEnd()
    {
        using var station = Begin("sqlite");
        string Make(string name, string role, params string[] more) =>
            station.Ok(["station", "token", "add", name, "--role", role, "--json", .. more]).Json.GetProperty("secret").GetString()!;
        var viewer = Make("v", "viewer");
        var second = Make("second", "administrator", "--until", "2099-12-31");
        Assert.Equal(0, station.RunAs(viewer, "station", "machines").Code);
        Assert.Equal(5, station.RunAs(viewer, "station", "token", "list").Code);
        Assert.Equal(5, station.RunAs(viewer, "station", "forget", "x").Code);
        Assert.Equal(3, station.Run("station", "token", "add", "v", "--role", "viewer").Code);
        Assert.Equal(2, station.Run("station", "token", "add", "old", "--role", "viewer", "--until", "2020-01-01").Code);
        station.Ok("station", "token", "revoke", "v");
        Assert.Equal(5, station.RunAs(viewer, "station", "machines").Code);
        Assert.Equal(0, station.RunAs(second, "station", "token", "revoke", "first").Code);
        Assert.Equal(3, station.RunAs(second, "station", "token", "revoke", "second").Code);
        Assert.Equal(5, station.Run("station", "machines").Code);
        // What is kept of them is not what they are.
        Assert.Equal(-1, File.ReadAllBytes(station.At("data/station.db")).AsSpan().IndexOf(Encoding.UTF8.GetBytes(second)));
    }

    [Fact]
    public async Task TheStationTellsHowItIs()
    {
        using var station = Begin("sqlite");
        using var client = Raw(station, null);
        Assert.Equal("ready\n", await client.GetStringAsync("/health/ready"));
        var metrics = await client.GetStringAsync("/metrics");
        Assert.EndsWith("# EOF\n", metrics, StringComparison.Ordinal);
        Assert.Contains("station_machines{state=\"waiting\"} 0", metrics, StringComparison.Ordinal);
        using var api = JsonDocument.Parse(await client.GetStringAsync("/openapi/v1.json"));
        Assert.True(api.RootElement.GetProperty("paths").EnumerateObject().Count() > 20);
        // What its file says anew counts without a start; what is wrong in it does not.
        var file = station.At("station.yaml");
        var before = await File.ReadAllTextAsync(file);
        await File.WriteAllTextAsync(file, before.Replace("fresh:", "renamed:", StringComparison.Ordinal));
        station.Reload();
        for (var tries = 0; tries < 200
            && station.Run("list", $"{station.Address}/archives/renamed", "--json").JsonError.GetProperty("code")
            .GetString() is var code && code != "no-such-archive"; tries++)
            await Task.Delay(50);
        await File.WriteAllTextAsync(file, before + "\nunknown: key\n");
        station.Reload();
        Assert.Equal(0, station.Run("list", station.Archive).Code);
        Assert.Equal(0, station.Stop());
    }
}
