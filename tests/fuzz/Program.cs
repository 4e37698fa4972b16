using System.Diagnostics;
using System.Globalization;
using Vembar.Fuzz;

// Damages kept files at random and gives them to what reads them: each has to read or to refuse them, and to come to an end.
// Usage: vembar-fuzz PROJECT [SECONDS [SEED [TARGET]]]. What fails is kept in PROJECT/tests/fuzz/found, and the exit code is 1.
var project = args[0];
var seconds = args.Length > 1 ? double.Parse(args[1], CultureInfo.InvariantCulture) : 60;
var seed = args.Length > 2 ? int.Parse(args[2], CultureInfo.InvariantCulture) : Environment.TickCount;
var targets = FuzzTarget.All(project).Where(t => args.Length < 4 || t.Name == args[3]).ToList();
if (targets.Count == 0)
{
    Console.Error.WriteLine($"there is no target of that name; known are {string.Join(", ", FuzzTarget.All(project).Select(t => t.Name))}");
    return 2;
}
Console.WriteLine($"seed {seed}, {seconds / targets.Count:0} s for each of {targets.Count} targets");
var failed = 0;
foreach (var target in targets)
{
    var mutator = new Mutator(target.Inputs, new Random(seed));
    var clock = Stopwatch.StartNew();
    var (rounds, refused) = (0L, 0L);
    for (; clock.Elapsed.TotalSeconds < seconds / targets.Count; rounds++)
    {
        var input = mutator.Next();
        try
        {
            refused += target.Try(input) ? 0 : 1;
        }
        catch (Exception failure) when (failure is not OutOfMemoryException)
        {
            failed++;
            var kept = Path.Combine(Directory.CreateDirectory(Path.Combine(project, "tests/fuzz/found")).FullName,
                $"{target.Name}-{seed}-{rounds}");
            File.WriteAllBytes(kept, input);
            Console.WriteLine($"{target.Name}: {failure.GetType().Name}: {failure.Message}\n  kept as {kept}\n{failure.StackTrace}");
            break;
        }
    }
    Console.WriteLine($"{target.Name}: {rounds} inputs, {refused} refused");
}
File.Delete(FuzzTarget.ScratchFile);
return failed == 0 ? 0 : 1;
