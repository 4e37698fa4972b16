using System.Globalization;
using Vembar.Common;
using Vembar.Images.Records;
using Vembar.Operations.Stations.Contract;
using Vembar.Operations.UserData;
using Vembar.Store.Reading;
using Vembar.Volumes.Disks;
using Vembar.Windows.Install;
using Vembar.Windows.UserData;

namespace Vembar.Operations.Stations.Joining;

/// <summary>Brings the user files of a machine to the station before its disk is divided, and back afterwards. One for the whole task: the
/// station may be another one meanwhile.</summary>
/// <param name="order">What the station wants.</param>
/// <param name="task">The task.</param>
/// <param name="disk">The disk.</param>
/// <param name="reporter">Told of it.</param>
internal sealed class UserFilesTask(KeepOrder order, string task, string disk, TaskReporter reporter)
{
    private readonly List<KeptImage> _laid = [];
    private readonly List<LaidAccount> _accounts = [];
    private readonly List<string> _warnings = [];

    /// <summary>What is at the station and is to be put back, the oldest first.</summary>
    public IReadOnlyList<KeptImage> Kept { get; private set; } = order.Kept ?? [];

    /// <summary>What the station wants, with what is there by now.</summary>
    public KeepOrder Order => order with { Kept = Kept };

    /// <summary>Keeps what is on the disk, unless the disk was divided for this task already, or holds an install that nobody has used
    /// yet. When it returns, the station knows of it.</summary>
    /// <param name="address">The station's address.</param>
    /// <param name="host">What the work gets from the program that it runs in.</param>
    /// <exception cref="VembarException">Something on the disk cannot be kept; the disk is as it was.</exception>
    public async Task KeepAsync(string address, OperationHost host)
    {
        if (TaskNote.Find(disk)?.Task.Id == task || !HoldsUsedInstall())
            return;
        reporter.Report(new OperationProgress("keeping user files", 0, 0, false, ""));
        try
        {
            var place = $"{address}{order.Archive}";
            var saved = await new SaveUserDataHandler(host).HandleAsync(new SaveUserDataRequest
            {
                Source = disk,
                Archive = place,
                Machine = order.Machine,
                Rules = order.Rules is { } rules ? KeepRules.Parse(rules, "the station's rules for user files") : KeepRules.Read(null),
                Wait = TimeSpan.FromMinutes(1),
            }, reporter, reporter.Stopped).ConfigureAwait(false);
            foreach (var warning in saved.Warnings)
                reporter.Note("warning", warning);
            var accounts = string.Join(", ", saved.Image.UserFiles!.Accounts.Select(a => a.Name));
            reporter.Note("info", string.Create(CultureInfo.InvariantCulture,
                $"user files of {accounts} are at the station: {saved.Image.Files} files, {saved.Image.Bytes >> 20} MiB, image "
                + $"{saved.Image.Number} {saved.Image.Title}"));
            // What is there of the same install is in it; of an install before, it was never put back.
            Kept = [.. OfOthers(place, saved.Image.UserFiles.Volume, host), new KeptImage(saved.Image.Number, saved.Image.Root.ToString())];
            await reporter.KeptAsync(Kept).ConfigureAwait(false);
        }
        catch (VembarException problem) when (problem.Code == SaveUserDataHandler.NothingToKeep)
        {
            reporter.Note("info", "nothing on the disk is to be kept: no account has files that the rules name");
        }
        catch (VembarException problem) when (problem.Kind is ErrorKind.Input or ErrorKind.Usage)
        {
            throw VembarException.Input("user-files-not-kept", $"the user files cannot be kept, so the disk was left as it is: "
                + problem.Message, problem.Hint, problem.Details);
        }
    }

    private List<KeptImage> OfOthers(string place, string volume, OperationHost host)
    {
        if (Kept.Count == 0)
            return [];
        using var archive = ArchiveReader.Open(place, host.Files);
        return [.. Kept.Where(k => archive.Images.FirstOrDefault(i => i.Number == k.Image)?.UserFiles is { } files
            && (files.Volume.Length == 0 || files.Volume != volume))];
    }

    // A disk that holds nothing yet has no users; one that holds something else is not for us to judge.
    private bool HoldsUsedInstall()
    {
        try
        {
            using (var opened = Disk.Open(disk))
            {
                if (opened.Volumes.All(v => v.FileSystem.Kind is not (FileSystem.Ntfs or FileSystem.Encrypted)))
                    return Nothing("the disk holds no volume of Windows");
            }
            using var found = ResolvedSource.Open(disk, null);
            // The image that was written, and not started yet.
            return WindowsInstall.Read(found.Source)?.State is not ("generalized" or "generalized-audit")
                || Nothing("the install on the disk was never started");
        }
        catch (VembarException problem) when (problem.Code == "no-windows" && Kept.Count > 0)
        {
            return Nothing(problem.Message);
        }
        catch (VembarException problem) when (problem.Kind == ErrorKind.Input)
        {
            throw VembarException.Input("user-files-not-kept",
                "it cannot be told whether users have files on the disk, so it was left as it is: "
                + problem.Message, "If there are none, approve the machine without keeping them.", problem.Details);
        }
    }

    private bool Nothing(string why)
    {
        reporter.Note("info", Kept.Count == 0 ? $"no user files to keep: {why}" : $"the user files are at the station already: {why}");
        return false;
    }

    /// <summary>Where the files went that are back.</summary>
    public IReadOnlyList<LaidAccount> Accounts => _accounts;

    /// <summary>What should be known of those that are back.</summary>
    public IReadOnlyList<string> Warnings => _warnings;

    /// <summary>Puts what was kept back: the newest first, so that it has the place where it was. What is back already is passed
    /// over.</summary>
    /// <param name="address">The station's address.</param>
    /// <param name="host">What the work gets from the program that it runs in.</param>
    /// <exception cref="VembarException">It cannot be; what was kept stays at the station.</exception>
    public async Task LayBackAsync(string address, OperationHost host)
    {
        if (Kept.Count > 0)
            TaskNote.MarkWritten(disk);
        foreach (var kept in Kept.Reverse().Where(k => !_laid.Contains(k)))
        {
            var result = await new RestoreUserDataHandler(host).HandleAsync(new RestoreUserDataRequest
            {
                Image = new ImageReference($"{address}{order.Archive}", kept.Image.ToString(CultureInfo.InvariantCulture)),
                Target = disk,
                Root = kept.Root,
            }, reporter, reporter.Stopped).ConfigureAwait(false);
            foreach (var account in result.Accounts)
                reporter.Note("info", string.Create(CultureInfo.InvariantCulture,
                    $"user files of {account.Name} are in {account.To}: {account.Files} files"));
            foreach (var warning in result.Warnings)
                reporter.Note("warning", warning);
            if (result.Differences is [var first, ..])
                throw VembarException.Environment("read-back", $"reading back the user files found {result.Differences.Count} differences: "
                    + first, "See whether the disk is sound, and try again.");
            _accounts.AddRange(result.Accounts);
            _warnings.AddRange(result.Warnings);
            _laid.Add(kept);
        }
    }
}
