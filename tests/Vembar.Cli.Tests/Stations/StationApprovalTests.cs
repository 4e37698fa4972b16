using System.Text.Json;
using Vembar.Common;
using Vembar.Operations.Stations.Contract;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests.Stations;

/// <summary>Machines wait, are approved by people and rules, get their image and are checked.</summary>
public sealed class StationApprovalTests(World world, PostgresServer postgres) : StationTest(world, postgres)
{
    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres", Traits = ["Set", "Slow"])]
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
    [InlineData("postgres", Traits = ["Set", "Slow"])]
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
        station.Ok("service", station.Archive + "#2", "--driver", World.At("drivers"), "--trust", World.At("trust"), "--in-place");
        var ran = RunningStation.Finish(station.Join(7, "wharf-11"));
        Assert.True(ran.Code == 0, ran.Error + ran.Output);
        Assert.Equal("TVL-007", station.WaitFor(7, MachineState.Done).Assignment.Name);
    }

    [Theory]
    [InlineData("sqlite")]
    [InlineData("postgres", Traits = ["Set", "Slow"])]
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
    public void WhoeverIsAtTheMachineSignsInFirst()
    {
        using var station = Begin("sqlite");
        var made = station.Ok("station", "token", "add", "front desk", "--role", "technician", "--pin", "--json").Json;
        var pin = made.GetProperty("pin").GetString()!;
        Assert.Matches("^[0-9]{8}$", pin);
        station.Ok("service", station.Archive + "#2", "--driver", World.At("drivers"), "--trust", World.At("trust"), "--in-place");
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
}
