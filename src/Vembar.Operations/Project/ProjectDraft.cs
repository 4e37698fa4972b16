namespace Vembar.Operations.Project;

/// <summary>A project file to begin with.</summary>
public static class ProjectDraft
{
    /// <summary>The text, with an archive that is named already.</summary>
    /// <param name="archive">The archive.</param>
    public static string Text(string archive) => $$"""
        # What all commands below this folder take for granted. docs/project.md describes it; `--verbose` names what was taken from here.
        # Paths are meant from this file's folder. What stands behind '#' is an example.

        # The archive that is meant where none is named: `vembar list`, `vembar show "#Reading room@pilot"`.
        archive: '{{archive.Replace("'", "''", StringComparison.Ordinal)}}'

        # How the next version of an image is called: {year}, {month}, {day}, {week}, {counter}.
        version: "{year}.{month}.{counter}"

        # The channels that images may be in, in the order in which they get there.
        channels: [pilot, production]

        # Certificates that are trusted for drivers: files, or folders of them.
        #trust: [trust]

        # Certificates of those who sign images; `deploy` and `verify` then refuse what none of them signed.
        #signers: [signers]

        # Hardware profiles; `--for "Oakmere M4"` then means the model of that name.
        #hardware: [hardware]

        # Your own readiness rules.
        #rules: readiness.yaml

        # Certificates of who vouches for your web servers and registries.
        #ca: house-ca.pem

        # Your station.
        #station: https://station.tarnvalley.example

        # Places that keep copies of images: `vembar sites` compares, `vembar sync` brings them what they lack.
        #sites:
        #  Staithe:
        #    place: oci://registry.staithe.tarnvalley.example/desks
        #    channels: [production]
        #  Head office:
        #    place: /srv/images/desks.vmb
        #    newest: 3
        #    names: ["Lending desk", "Reading*"]

        """;
}
