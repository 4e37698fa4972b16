using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Text.Json;
using Vembar.Operations.Stations.Contract;
using Vembar.Tests;
using Xunit;

namespace Vembar.Cli.Tests.Stations;

/// <summary>What tests of a station and machines that join it share: real programs on loopback, real disks, both databases.</summary>
public abstract class StationTest(World world, PostgresServer postgres)
{
    protected const string Image = "Lending desk", Desk = "oakmere-m4";

    protected World World => world;

    protected PostgresServer Postgres => postgres;

    protected RunningStation Begin(string database, string more = "") =>
        new(world, database == "postgres" ? postgres.Database() : null, more);

    protected static JsonElement One(RunningStation station, int number) =>
        station.Ok("station", "machines", RunningStation.Serial(number), "--json").Json;

    protected static string[] Approve(int number, string name, params string[] more) =>
        ["station", "approve", RunningStation.Serial(number), "--name", name, "--image", Image, "--accept", "no-driver", "--accept",
            "no-storage-driver", .. more];

    protected static HttpClient Raw(RunningStation station, string? token)
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

    protected static MachineReport Report(int number) => new()
    {
        Identity = new MachineIdentity { Serial = RunningStation.Serial(number), Addresses = [$"02:00:00:00:01:{number:x2}"] },
        Disks = [new ReportedDisk("/dev/sda", 64L << 30, "", [])],
    };

    protected static Task<HttpResponseMessage> Join(HttpClient client, MachineReport report, string? key = null) =>
        client.PostAsJsonAsync("/api/join", new JoinRequest(report, key), StationJson.Default.JoinRequest);

    protected static async Task<Problem> ProblemOf(HttpResponseMessage response)
    {
        Assert.Equal(Problem.MediaType, response.Content.Headers.ContentType?.MediaType);
        return (await response.Content.ReadFromJsonAsync(StationJson.Default.Problem))!;
    }
}
