using System.Reflection;
using Xunit;

namespace Vembar.Tests.Architecture;

/// <summary>The layers of docs/architecture.md. There is no list of exceptions, and none is to be made.</summary>
public class LayerTests
{
    // From the lowest on; each may use those before it.
    private static readonly string[] s_layers =
        ["Vembar.Native", "Vembar.Common", "Vembar.Store", "Vembar.Images", "Vembar.Volumes", "Vembar.Windows", "Vembar.Operations"];

    private static IEnumerable<Assembly> Layers() => s_layers.Select(Assembly.Load);

    [Fact]
    public void ALayerUsesOnlyThoseBelowIt()
    {
        var wrong = new List<string>();
        for (var i = 0; i < s_layers.Length; i++)
        {
            var above = s_layers[i..];
            var uses = AssemblyDependencies.Of(Assembly.Load(s_layers[i])).Assemblies.Where(a => a.StartsWith("Vembar",
                StringComparison.Ordinal));
            wrong.AddRange(uses.Where(a => above.Contains(a) || !s_layers.Contains(a)).Select(a => $"{s_layers[i]} uses {a}"));
        }
        Assert.Empty(wrong);
    }

    [Fact]
    public void ATypeStandsInTheNamespaceOfItsAssembly()
    {
        var wrong = Layers()
            .SelectMany(a => a.GetTypes().Where(t => t.Namespace is { } n && n.StartsWith("Vembar", StringComparison.Ordinal)
            && n != a.GetName().Name
            && !n.StartsWith(a.GetName().Name + ".", StringComparison.Ordinal)).Select(t => $"{t} in {a.GetName().Name}"));
        Assert.Empty(wrong);
    }

    [Fact]
    public void NoNamespacesUseEachOtherInACircle()
    {
        var uses = Layers().Select(a => AssemblyDependencies.Of(a)).Append(AssemblyDependencies.Of(Station()))
            .SelectMany(a => a.Namespaces).ToList();
        Assert.True(uses.Count > 100);
        var below = uses.ToLookup(u => u.Key.From, u => u.Key.To);
        var circles = new List<string>();
        foreach (var from in below.Select(g => g.Key))
        {
            foreach (var (key, example) in uses.Where(u => u.Key.From == from && Reaches(below, u.Key.To, from)))
                circles.Add($"{key.From} -> {key.To}: {example}");
        }
        Assert.Empty(circles);
    }

    // The server is a program and no layer, and large enough that it has to be kept in order as well.
    private static string Station() => Path.Combine(AppContext.BaseDirectory, "vembar-station.dll");

    private static bool Reaches(ILookup<string, string> below, string from, string to)
    {
        var seen = new HashSet<string>();
        var pending = new Stack<string>([from]);
        while (pending.TryPop(out var next))
        {
            if (next == to)
                return true;
            if (seen.Add(next))
            {
                foreach (var further in below[next])
                    pending.Push(further);
            }
        }
        return false;
    }

    // Interface code belongs to the programs.
    [Fact]
    public void NoLayerWritesToTheConsole()
    {
        var wrong = Layers()
            .SelectMany(a => AssemblyDependencies.Of(a).Assemblies.Where(r => r is "System.Console" or "Spectre.Console"
                or "System.CommandLine")
            .Select(r => $"{a.GetName().Name} uses {r}"));
        Assert.Empty(wrong);
    }
}
