using System.Globalization;
using System.Net;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Text;
using System.Text.Json;
using Vembar.Common;
using Vembar.Operations.Stations.Contract;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests.Stations;

/// <summary>A station and machines that join it: real programs on loopback, real disks, both databases.</summary>
public sealed class StationTests(World world, PostgresServer postgres)
{
    private const string Image = "Lending desk", Desk = "oakmere-m4";

    private RunningStation Begin(string database, string more = "") =>
        new(world, database == "postgres" ? postgres.Database() : null, more);

    private static JsonElement One(RunningStation station, int number) =>
        station.Ok("station", "machines", RunningStation.Serial(number), "--json").Json;

    private static string[] Approve(int number, string name, params string[] more) =>
        ["station", "approve", RunningStation.Serial(number), "--name", name, "--image", Image, "--accept", "no-driver", "--accept",
            "no-storage-driver", .. more];

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public void AMachineIsApprovedDeployedAndChecked(string database)
    {
        using var expectations = new TempFolder();
        expectations.Write("desk.yaml", "expect:\n  - text: Shelfmark is installed\n    program: Shelfmark*\n");
        using var station = Begin(database, $"expectations: {{ desk: {expectations.At("desk.yaml")} }}");
        var machine = station.Join(1, Desk);
        var waiting = station.WaitFor(1, MachineState.Waiting);
        Assert.Equal("Oakmere M4", waiting.Model);

        // Without a driver that it needs it is refused; a technician cannot set that aside, an administrator can.
        var refused = station.Run("station", "approve", RunningStation.Serial(1), "--name", "TVL-DESK-001", "--image", Image, "--json");
        Assert.Equal(3, refused.Code);
        Assert.Equal("refused", refused.JsonError.GetProperty("code").GetString());
        var technician = station.Ok("station", "token", "add", "front desk", "--role", "technician", "--json").Json
            .GetProperty("secret").GetString()!;
        Assert.Equal(3, station.RunAs(technician, Approve(1, "TVL-DESK-001")).Code);
        station.Ok(Approve(1, "TVL-DESK-001", "--expect", "desk"));

        var ran = RunningStation.Finish(machine);
        Assert.True(ran.Code == 0, ran.Error + ran.Output);
        Assert.True(ran.Json.GetProperty("done").GetBoolean());
        var done = One(station, 1);
        Assert.Equal("checked", done.GetProperty("machine").GetProperty("state").GetString());
        var result = done.GetProperty("outcome").GetProperty("result");
        Assert.Contains(result.GetProperty("programs").EnumerateArray(),
            p => p.GetString()!.StartsWith("Shelfmark", StringComparison.Ordinal));
        Assert.True(result.GetProperty("readBack").GetBoolean());
        Assert.Equal(5, result.GetProperty("drivers").GetArrayLength());
        Assert.True(result.GetProperty("phases").GetArrayLength() > 3);

        // It is on the disk, under its own name.
        var log = station.Ok("station", "log", "TVL-DESK-001").Output;
        Assert.Matches("joined[^\n]*\n.*approved[^\n]*\n.*began[^\n]*\n(.*log[^\n]*\n)*.*done", log);
        Assert.Contains("TVL-DESK-001", UnattendOf(station.Disk(1)), StringComparison.Ordinal);
        Assert.Contains("refused", station.Ok("station", "audit").Output, StringComparison.Ordinal);
        // Nothing of it is left that was only needed on the way.
        Assert.False(station.HasNote(1));

        // A second time it asks.
        var again = station.Join(1, Desk);
        station.WaitFor(1, MachineState.Waiting);
        Assert.Equal(3, station.Run(Approve(1, "TVL-DESK-001")).Code);
        station.Ok([.. Approve(1, "TVL-DESK-001"), "--accept", "already-done"]);
        Assert.Equal(0, RunningStation.Finish(again).Code);
    }

    // From the disk itself, by sleuthkit.
    private static string UnattendOf(string disk)
    {
        using var table = JsonDocument.Parse(Tools.Run("sfdisk", ["-J", disk]));
        var start = table.RootElement.GetProperty("partitiontable").GetProperty("partitions")[2].GetProperty("start").GetRawText();
        var list = Tools.Run("fls", ["-o", start, "-r", "-p", disk]);
        var entry = list.Split('\n').First(l => l.EndsWith("Windows/Panther/unattend.xml", StringComparison.OrdinalIgnoreCase));
        return Tools.Run("icat", ["-o", start, disk, entry.Split(' ')[1].TrimEnd(':', '\t').Split('\t')[0].TrimEnd(':')]);
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task OfManyWhoApproveTheSameMachineOneDoes(string database)
    {
        using var station = Begin(database);
        station.Join(2, Desk);
        var waiting = station.WaitFor(2, MachineState.Waiting);
        using var client = station.Client();
        var done = await Task.WhenAll(Enumerable.Range(0, 8).Select(async i =>
        {
            try
            {
                await client.ApproveAsync(waiting.Id, new Approval
                {
                    Name = $"TVL-DESK-{i:000}",
                    Image = Image,
                    Accept = ["no-driver", "no-storage-driver"],
                    Version = waiting.Version,
                }, CancellationToken.None);
                return "";
            }
            catch (VembarException problem)
            {
                return problem.Code;
            }
        }));
        Assert.Single(done, "");
        Assert.All(done.Where(d => d.Length > 0), d => Assert.Contains(d, (string[])["changed-meanwhile", "already-approved"]));
        Assert.Single((await client.EventsAsync(waiting.Id, 0, CancellationToken.None)), e => e.Kind == "approved");
    }

    [Fact]
    public void MachinesOfAListAreApprovedByRule()
    {
        using var station = Begin("sqlite", $"approve: known\nimage: {Image}\nnames: 'TVL-{{site}}-{{number:3}}'");
        File.WriteAllText(station.At("machines.csv"), $"identifier,name,site,image\r\n{RunningStation.Serial(3)},,STAITHE,\r\n"
            + $"\"{RunningStation.Serial(9)}\",TVL-OWN,\"Hill, upper\",Reading room\r\n");
        Assert.Equal(2, station.Ok("station", "import", "machines.csv", "--json").Json.GetProperty("added").GetInt32());
        Assert.Equal(2, station.Ok("station", "import", "machines.csv", "--json").Json.GetProperty("unchanged").GetInt32());
        Assert.Contains("\"Hill, upper\"", station.Ok("station", "export").Output, StringComparison.Ordinal);
        station.Join(3, Desk);
        // What stands in the way is told, and nothing is set aside by a rule.
        var held = station.WaitFor(3, m => m.Remark.StartsWith("not approved by rule", StringComparison.Ordinal), "refused by rule");
        Assert.Contains("has no driver", held.Remark, StringComparison.Ordinal);
        station.Join(4, Desk);
        Assert.Equal("waits for somebody to approve it", station.WaitFor(4, MachineState.Waiting).Remark);
        File.WriteAllText(station.At("taken.csv"), "identifier,name\nTV-77777,TVL-OWN\n");
        Assert.Equal(3, station.Run("station", "import", "taken.csv").Code);
        File.WriteAllText(station.At("bad.csv"), "identifier,name\nx,TVL-1\n11,TVL-1\n");
        var bad = station.Run("station", "import", "bad.csv", "--json");
        Assert.Equal(3, bad.Code);
        Assert.Equal(3, bad.JsonError.GetProperty("details").GetArrayLength());
    }

    [Fact]
    public void WhereARuleApprovesAllNobodyIsNeeded()
    {
        using var station = Begin("sqlite", "approve: always\nimage: Reading room\nnames: 'TVL-{serial:3}'");
        station.Ok("service", station.Archive + "#2", "--driver", world.At("drivers"), "--trust", world.At("trust"), "--in-place");
        var ran = RunningStation.Finish(station.Join(7, "wharf-11"));
        Assert.True(ran.Code == 0, ran.Error + ran.Output);
        Assert.Equal("TVL-007", station.WaitFor(7, MachineState.Done).Assignment.Name);
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public void AStationThatIsKilledAndStartedAgainGoesOn(string database)
    {
        using var station = Begin(database);
        var machine = station.Join(5, Desk);
        station.WaitFor(5, MachineState.Waiting);
        station.Kill();
        station.Start();
        station.WaitFor(5, MachineState.Waiting);
        station.Ok(Approve(5, "TVL-DESK-005"));
        // At whatever moment that is.
        station.Kill();
        station.Start();
        var ran = RunningStation.Finish(machine);
        Assert.True(ran.Code == 0, ran.Error + ran.Output);
        Assert.Equal(MachineState.Done, station.WaitFor(5, MachineState.Done).State);
        var events = station.Ok("station", "log", "TVL-DESK-005", "--json").Json.EnumerateArray().Select(e => e.GetProperty("kind")
            .GetString()).ToList();
        Assert.Single(events, "began");
        Assert.Single(events, "done");
    }

    [Fact]
    public void AMachineThatWasSwitchedOffGoesOnWhereItWas()
    {
        using var station = Begin("sqlite");
        var first = station.Join(6, Desk);
        station.WaitFor(6, MachineState.Waiting);
        station.Ok(Approve(6, "TVL-DESK-006"));
        // Its disk says whose it is as soon as it is divided.
        station.WaitForNote(6, first);
        if (!first.HasExited)
            Tools.Try("sh", ["-c", $"pkill -KILL -f 'disk-6.img'"]);
        first.WaitForExit();
        var second = RunningStation.Finish(station.Join(6, Desk));
        Assert.True(second.Code == 0, second.Error + second.Output);
        station.WaitFor(6, MachineState.Done);
        Assert.Contains("joined again and goes on", station.Ok("station", "log", "TVL-DESK-006").Output, StringComparison.Ordinal);
    }

    [Fact]
    public void WhatIsStoppedIsStopped()
    {
        using var station = Begin("sqlite");
        var machine = station.Join(7, Desk);
        station.WaitFor(7, MachineState.Waiting);
        Assert.Equal(3, station.Run("station", "stop", RunningStation.Serial(7)).Code);
        Tools.Run("pkill", ["-KILL", "-f", station.Disk(7)]);
        machine.WaitForExit();
        station.Ok(Approve(7, "TVL-7"));
        station.Ok("station", "stop", "TVL-7");
        Assert.Equal("stopped", One(station, 7).GetProperty("machine").GetProperty("state").GetString());
        Assert.Equal(3, station.Run("station", "retry", "TVL-7").Code);
        Assert.Equal(3, station.Run("station", "approve", "nobody", "--name", "X1", "--image", Image).Code);
        Assert.Equal(2, station.Run("station", "approve", RunningStation.Serial(7), "--name", "a-name-that-is-too-long").Code);
        Assert.Equal(3, station.Run("station", "approve", RunningStation.Serial(7), "--name", "TVL-7", "--image", "Nothing@pilot").Code);
        station.Ok("station", "assign", RunningStation.Serial(7), "--name", "TVL-7", "--site", "Staithe");
        station.Ok("station", "forget", "TVL-7");
        Assert.Equal(3, station.Run("station", "log", "TVL-7").Code);
    }

    [Fact]
    public void AnArchiveAtAStationIsAPlace()
    {
        using var station = Begin("sqlite");
        using var local = new TempFolder();
        var same = world.CopyArchive(local);
        Assert.Equal(Vembar.Run("list", same, "--json").Json.GetProperty("images").GetRawText(),
            station.Ok("list", station.Archive, "--json").Json.GetProperty("images").GetRawText());
        station.Ok("capture", world.At("references/bookmobile"), station.Archive, "--name", "Bookmobile", "--version", "2026.09");
        station.Ok("mark", station.Archive + "#Bookmobile", "--channel", "pilot");
        station.Ok("service", station.Archive + "#Bookmobile@pilot", "--put", $"{Vembar.Repository}/LICENSE=Windows/Web/licence.txt",
            "--as",
            "Bookmobile, with its licence");
        station.Ok("retitle", station.Archive + "#last", "--note", "for a test");
        station.Ok("drop", station.Archive + "#1", "--confirm");
        station.Ok("compact", station.Archive, "--confirm");
        station.Ok("copy", world.Archive + "#1", $"{station.Address}/archives/fresh");
        foreach (var file in (string[])["desks.vmb", "fresh.vmb"])
        {
            var verified = Vembar.Run("verify", station.At(file), "--json").Json;
            Assert.True(verified.GetProperty("ok").GetBoolean());
        }
        Assert.Equal(3, station.Ok("list", station.Archive, "--json").Json.GetProperty("images").GetArrayLength());
        // Who may only look changes nothing.
        var viewer = station.Ok("station", "token", "add", "viewer", "--role", "viewer", "--json").Json.GetProperty("secret").GetString()!;
        Assert.Equal(0, station.RunAs(viewer, "list", station.Archive).Code);
        Assert.Equal(3, station.RunAs(viewer, "mark", station.Archive + "#2", "--channel", "pilot").Code);
        Assert.Equal(5, station.RunAs("vst_nobody", "list", station.Archive).Code);
        Assert.Equal(3, station.Run("list", $"{station.Address}/archives/nothing").Code);
        Assert.Empty(Directory.EnumerateDirectories(station.At("data/uploads")));
    }

    [Fact]
    public async Task TwoWhoAddAtOnceDoNotLoseAnything()
    {
        using var station = Begin("sqlite");
        var runs = await Task.WhenAll(Enumerable.Range(0, 4).Select(i => Task.Run(() =>
            station.Run("retitle", station.Archive + "#1", "--note", $"{i}"))));
        Assert.Contains(runs, r => r.Code == 0);
        Assert.All(runs, r => Assert.Contains(r.Code, (int[])[0, 5]));
        var states = station.Ok("history", station.Archive, "--json").Json.GetProperty("states").GetArrayLength();
        Assert.Equal(Vembar.Run("history", world.Archive, "--json").Json.GetProperty("states").GetArrayLength()
            + runs.Count(r => r.Code == 0), states);
        Assert.Equal(0, Vembar.Run("verify", station.At("desks.vmb")).Code);
    }

    [Fact]
    public void AReferenceIsCapturedFromWhereItStands()
    {
        using var station = Begin("sqlite");
        File.Copy(world.At("disks/lending-desk.vhdx"), station.At("reference.vhdx"));
        var machine = station.Join(8, Desk, station.At("reference.vhdx"));
        station.WaitFor(8, MachineState.Waiting);
        station.Ok("station", "capture", RunningStation.Serial(8), "--name", "Lending desk, from the machine");
        var ran = RunningStation.Finish(machine);
        Assert.True(ran.Code == 0, ran.Error + ran.Output);
        // It is there already, all but what says so.
        Assert.True(ran.Json.GetProperty("result").GetProperty("bytesStored").GetInt64() < 400_000);
        Assert.Equal(3, station.Ok("list", station.Archive, "--json").Json.GetProperty("images").GetArrayLength());

        File.Copy(world.At("spoiled/not-generalized.qcow2"), station.At("unready.qcow2"));
        var unready = station.Join(18, Desk, station.At("unready.qcow2"));
        station.WaitFor(18, MachineState.Waiting);
        station.Ok("station", "capture", RunningStation.Serial(18), "--name", "Unready");
        Assert.Equal(1, RunningStation.Finish(unready).Code);
        Assert.Contains("not", station.WaitFor(18, MachineState.Failed).Remark, StringComparison.Ordinal);
        Assert.Equal(3, station.Ok("list", station.Archive, "--json").Json.GetProperty("images").GetArrayLength());
    }

    private static HttpClient Raw(RunningStation station, string? token)
    {
#pragma warning disable CA5400 // loopback, in a test
        var client = new HttpClient(new HttpClientHandler { ServerCertificateCustomValidationCallback = (_, _, _, _) => true })
        {
            BaseAddress = new Uri(station.Address),
        };
#pragma warning restore CA5400
        if (token is not null)
            client.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", token);
        return client;
    }

    private static MachineReport Report(int number) => new()
    {
        Identity = new MachineIdentity { Serial = RunningStation.Serial(number), Addresses = [$"02:00:00:00:01:{number:x2}"] },
        Disks = [new ReportedDisk("/dev/sda", 64L << 30, "", [])],
    };

    private static Task<HttpResponseMessage> Join(HttpClient client, MachineReport report, string? key = null) =>
        client.PostAsJsonAsync("/api/join", new JoinRequest(report, key), StationJson.Default.JoinRequest);

    private static async Task<Problem> ProblemOf(HttpResponseMessage response)
    {
        Assert.Equal(Problem.MediaType, response.Content.Headers.ContentType?.MediaType);
        return (await response.Content.ReadFromJsonAsync(StationJson.Default.Problem))!;
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
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
    public async Task WhoWaitsForTheirDiskToBeWrittenMayBeStopped()
    {
        using var station = Begin("sqlite");
        using var people = station.Client();
        var machine = station.Join(1, Desk);
        station.WaitFor(1, MachineState.Waiting);
        station.Ok(Approve(1, "TVL-1"));
        await Task.Run(() => station.WaitForNote(1, machine));
        var stopped = station.Run("station", "stop", "TVL-1");
        var ran = RunningStation.Finish(machine);
        if (stopped.Code != 0)
            return;
        // Nothing is kept on the disk that was for this task alone.
        Assert.Equal(MachineState.Stopped, station.WaitFor(1, MachineState.Stopped).State);
        Assert.Contains("stopped at the station", ran.Error + ran.Output, StringComparison.Ordinal);
        Assert.False(station.HasNote(1));
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
    [InlineData("postgres")]
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
    public async Task OneStationTakesOverFromAnother()
    {
        var database = postgres.Database();
        using var first = new RunningStation(world, database);
        using var second = new RunningStation(world, database, "", first);
        var machines = Enumerable.Range(1, 4).Select(n => first.Join(n, Desk)).ToList();
        foreach (var number in Enumerable.Range(1, 4))
        {
            second.WaitFor(number, MachineState.Waiting);
            second.Ok(Approve(number, $"TVL-{number}"));
        }
        first.Kill();
        foreach (var machine in machines)
        {
            var ran = await Task.Run(() => RunningStation.Finish(machine));
            Assert.True(ran.Code == 0, ran.Error + ran.Output);
        }
        foreach (var number in Enumerable.Range(1, 4))
            second.WaitFor(number, MachineState.Done);
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres")]
    public async Task ManyThatComeAtOnceAreAllNamed(string database)
    {
        const int Machines = 150;
        using var station = Begin(database, "approve: always\nimage: Reading room\nnames: 'TVL-{number:4}'");
        await Task.WhenAll(Enumerable.Range(1, Machines).Select(async number =>
        {
            using var anyone = station.Client("none");
            await anyone.JoinAsync(new JoinRequest(new MachineReport
            {
                Identity = new MachineIdentity { Serial = RunningStation.Serial(number) },
                Disks = [new ReportedDisk("/dev/sda", 64L << 30, "", [])],
            }, null), CancellationToken.None);
        }));
        using var people = station.Client();
        var all = await people.MachinesAsync(CancellationToken.None);
        Assert.All(all, m => Assert.True(m.State == MachineState.Ready, m.Remark));
        Assert.Equal(Enumerable.Range(1, Machines).Select(n => $"TVL-{n:0000}"), all.Select(m => m.Assignment.Name).Order());
    }

    [Fact]
    public async Task ADatabaseThatIsAwayForAWhileIsWaitedFor()
    {
        using var own = new PostgresServer();
        using var station = new RunningStation(world, own.Database());
        var machine = station.Join(1, Desk);
        station.WaitFor(1, MachineState.Waiting);
        own.Stop();
        using (var client = Raw(station, station.Token))
        {
            Assert.Equal(HttpStatusCode.ServiceUnavailable, (await client.GetAsync("/health/ready")).StatusCode);
            Assert.Equal(HttpStatusCode.OK, (await client.GetAsync("/health/live")).StatusCode);
            Assert.Equal("database-away", (await ProblemOf(await client.GetAsync("/api/machines"))).Code);
        }
        own.Start();
        station.WaitFor(1, MachineState.Waiting);
        station.Ok(Approve(1, "TVL-1"));
        Assert.Equal(0, RunningStation.Finish(machine).Code);
    }

    [Fact]
    public void WhoeverIsAtTheMachineSignsInFirst()
    {
        using var station = Begin("sqlite");
        var made = station.Ok("station", "token", "add", "front desk", "--role", "technician", "--pin", "--json").Json;
        var pin = made.GetProperty("pin").GetString()!;
        Assert.Matches("^[0-9]{8}$", pin);
        station.Ok("service", station.Archive + "#2", "--driver", world.At("drivers"), "--trust", world.At("trust"), "--in-place");
        var input = string.Join('\n', "front desk", "00000000", "front desk", pin, "99", "2", "TVL-KIOSK-001", "no", "front desk", pin, "2",
            "TVL-KIOSK-001", "yes", "");
        var machine = station.Join(1, "wharf-11", null, ["--attended"], input);
        var ran = RunningStation.Finish(machine);
        Assert.Contains("not the token or PIN", ran.Error, StringComparison.Ordinal);
        Assert.Contains("Signed in as front desk", ran.Error, StringComparison.Ordinal);
        Assert.True(ran.Error.IndexOf("Reading room", StringComparison.Ordinal) > ran.Error.IndexOf("Signed in", StringComparison.Ordinal));
        Assert.True(ran.Code == 0, ran.Error);
        Assert.Equal("TVL-KIOSK-001", One(station, 1).GetProperty("machine").GetProperty("assignment").GetProperty("name").GetString());
        var audit = station.Ok("station", "audit").Output;
        Assert.Contains("wrong token or PIN", audit, StringComparison.Ordinal);
        Assert.Contains("sign in at a machine", audit, StringComparison.Ordinal);
    }

    [Fact]
    public void OverIpv6Alone()
    {
        using var station = new RunningStation(world, host: "[::1]");
        var machine = station.Join(1, Desk);
        station.WaitFor(1, MachineState.Waiting);
        station.Ok(Approve(1, "TVL-1"));
        Assert.Equal(0, RunningStation.Finish(machine).Code);
        station.Ok("list", station.Archive);
    }

    [Fact]
    public async Task ABranchFetchesWhatItReadsOnce()
    {
        using var central = Begin("sqlite");
        using var branch = new RunningStation(world, central: central);
        using var client = Raw(central, null);
        async Task<long> Sent()
        {
            var line = (await client.GetStringAsync("/metrics")).Split('\n').First(l => l.StartsWith("station_archive_bytes_total ",
                StringComparison.Ordinal) || l.StartsWith("station_archive_bytes ", StringComparison.Ordinal));
            return (long)double.Parse(line.Split(' ')[1], CultureInfo.InvariantCulture);
        }
        var before = await Sent();
        foreach (var number in (int[])[1, 2])
        {
            var machine = branch.Join(number, Desk);
            branch.WaitFor(number, MachineState.Waiting);
            branch.Ok(Approve(number, $"TVL-{number}"));
            var ran = RunningStation.Finish(machine);
            Assert.True(ran.Code == 0, ran.Error + ran.Output);
        }
        // Two machines, and the archive crossed the line about once.
        Assert.InRange(await Sent() - before, 1, new FileInfo(central.At("desks.vmb")).Length * 3 / 2);
        // Nothing is added to it there.
        Assert.Equal(3, branch.Run("mark", branch.Archive + "#1", "--channel", "pilot").Code);
        // What is added at the centre is there after a moment.
        central.Ok("retitle", central.Archive + "#1", "--note", "new");
        for (var tries = 0; tries < 100 && branch.Ok("show", branch.Archive + "#1", "--json").Json.GetProperty("image").GetProperty("note")
            .GetString() != "new"; tries++)
            await Task.Delay(100);
        Assert.Equal("new", branch.Ok("show", branch.Archive + "#1", "--json").Json.GetProperty("image").GetProperty("note").GetString());
        // When the line is down, what was fetched is there.
        central.Kill();
        await Task.Delay(TimeSpan.FromSeconds(6));
        branch.Ok("deploy", branch.Archive + "#1", branch.At("while-the-line-is-down"), "--verify");
        central.Start();
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

    [Fact]
    public void MachinesAreSwitchedOnByTheirSitesCommand()
    {
        using var station = new RunningStation(world, more: """
            power:
              Library: { command: [ /bin/sh, -c, 'echo "$0 $1" > switched', '{name}', '{address}' ] }
              Annex: { command: [ /bin/sh, -c, 'echo no such board >&2; exit 3' ] }
              '*': { command: [ /bin/sleep, '60' ], limit: 1 s }
            """);
        var list = station.At("list.csv");
        File.WriteAllText(list,
            "identifier,name,site\n00:11:22:33:44:55,TVL-1,Library\nSN-2,TVL-2,Annex\nSN-3,TVL-3,Quay\n--help,TVL-4,Library\n");
        station.Ok("station", "import", list);
        station.Ok("station", "wake", "TVL-1");
        Assert.Equal("TVL-1 00:11:22:33:44:55\n", File.ReadAllText(station.At("switched")));
        var failed = station.Run("station", "wake", "TVL-2");
        Assert.Equal(3, failed.Code);
        Assert.Contains("ended with 3: no such board", failed.Error, StringComparison.Ordinal);
        Assert.Contains("did not end within 1 s", station.Run("station", "wake", "TVL-3").Error, StringComparison.Ordinal);
        // Of this one no network address is known, which the command wants.
        Assert.Contains("has no address", station.Run("station", "wake", "TVL-4").Error, StringComparison.Ordinal);
    }
}
