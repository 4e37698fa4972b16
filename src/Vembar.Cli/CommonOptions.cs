using System.CommandLine;

namespace Vembar.Cli;

/// <summary>The options that every command has.</summary>
internal static class CommonOptions
{
    public static readonly Option<bool> Json = new("--json")
    {
        Description = "Print one JSON document on standard output, also when it fails",
        Recursive = true,
    };
    public static readonly Option<bool> Quiet = new("--quiet", "-q")
    {
        Description = "Print nothing but errors, and the document or text that was asked for",
        Recursive = true,
    };
    public static readonly Option<bool> Verbose = new("--verbose", "-v")
    {
        Description = "Say more, with stack traces on errors",
        Recursive = true,
    };
    public static readonly Option<bool> Plain = new("--plain") { Description = "No colour", Recursive = true };
    public static readonly Option<string?> Log = new("--log")
    {
        Description = "Write a structured log of the run to FILE",
        HelpName = "FILE",
        Recursive = true,
    };

    public static readonly Option<string?> Project = new("--project")
    {
        Description = "Use this project file, and not a vembar.yaml in or above the working folder; VEMBAR_PROJECT says it too",
        HelpName = "FILE",
        Recursive = true,
    };

    public static readonly Option<string?> Ca = new("--ca")
    {
        Description = "Trust the servers of places whose certificates these vouch for, beside the system's; a PEM file",
        HelpName = "FILE",
        Recursive = true,
    };

    public static readonly Option<bool> Insecure = new("--insecure")
    {
        Description = "Speak to places without encryption, or without looking at their certificates",
        Recursive = true,
    };

    public static readonly Option<bool> Overwrite = new("--overwrite")
    {
        Description = "Let files that this run writes (pages, profiles, packages, its log) take the place of any that are there",
        Recursive = true,
    };

    public static IEnumerable<Option> All => [Json, Quiet, Verbose, Plain, Log, Overwrite, Project, Ca, Insecure];
}
