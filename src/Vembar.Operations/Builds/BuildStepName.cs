namespace Vembar.Operations.Builds;

/// <summary>The names of the steps of a build.</summary>
public static class BuildStepName
{
    /// <summary>A copy of the disk is made ready.</summary>
    public const string Prepare = "prepare";

    /// <summary>It is looked whether it may be captured.</summary>
    public const string Ready = "ready";

    /// <summary>It is captured, into an archive of the run's own.</summary>
    public const string Capture = "capture";

    /// <summary>A work order is done.</summary>
    public const string Service = "service";

    /// <summary>It is compared with expectations.</summary>
    public const string Expect = "expect";

    /// <summary>It is signed.</summary>
    public const string Sign = "sign";

    /// <summary>It is put into the archive, with all that is said of it there.</summary>
    public const string Add = "add";

    /// <summary>A site gets it.</summary>
    public const string Sync = "sync";

    /// <summary>Somebody is told.</summary>
    public const string Tell = "tell";
}
