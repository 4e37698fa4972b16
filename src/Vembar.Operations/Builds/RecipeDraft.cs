namespace Vembar.Operations.Builds;

/// <summary>A recipe to begin with.</summary>
public static class RecipeDraft
{
    /// <summary>The text.</summary>
    /// <param name="from">What it begins with, as the recipe will name it.</param>
    /// <param name="archive">The archive, as the recipe will name it; null where the project file names one.</param>
    /// <param name="name">The image's name.</param>
    /// <param name="isDisk">Whether it begins with a disk.</param>
    public static string Text(string from, string? archive, string name, bool isDisk)
    {
        static string Q(string text) => $"'{text.Replace("'", "''", StringComparison.Ordinal)}'";
        var prepared = isDisk ? """

            # A copy of the disk is started in a virtual machine, and has to switch itself off; the disk itself is only read.
            #prepare:
            #  files: inside                     # found there on a small second disk
            #  memory: 4 GiB
            #  limit: 3 h

            """ : "";
        return $$"""
            # How the image is made, from the reference to its channel. Paths are meant from this file's folder; what stands behind '#' is
            # an example. docs/recipes.md describes it; `vembar recipe check` looks at it, `vembar build --plan` tells what it would do.
            title: {{Q(name)}}
            from: {{Q(from)}}
            {{prepared}}
            #ready:
            #  accept: [machine-guid]

            capture:
            {{(archive is null ? "  #archive: desks.vmb" : $"  archive: {Q(archive)}")}}
              name: {{Q(name)}}
              #version: ${year}.${month}         # the next one where none is named

            #service: [orders/monthly.yaml]
            #expect: expectations.yaml
            #sign: {key: signer-key.pem, certificate: signer.pem}
            #mark: {channel: pilot, retire-before: 30}
            #sync: all
            #keep: 6
            #tell: [{run: [./told.sh]}]

            """;
    }
}
