using Vembar.Common.Files;
using Xunit;

namespace Vembar.Tests;

/// <summary>Folders for what is needed for a while.</summary>
public sealed class ScratchFolderTests : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    [Fact]
    public void WhatARunLeftThatWasKilledIsTakenAwayByTheNext()
    {
        using var alive = ScratchFolder.Make(_folder.Path);
        File.WriteAllText(Path.Combine(alive.Path, "file"), "needed");
        _folder.Write("vembar-scratch-left/deep/file", "of nobody");
        _folder.Write("vembar-others/file", "of somebody");
        string next;
        using (var made = ScratchFolder.Make(_folder.Path))
        {
            next = made.Path;
            Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute, File.GetUnixFileMode(next));
        }
        Assert.False(Directory.Exists(next));
        Assert.False(Directory.Exists(_folder.At("vembar-scratch-left")));
        Assert.True(File.Exists(Path.Combine(alive.Path, "file")));
        Assert.True(File.Exists(_folder.At("vembar-others/file")));
    }

    [Fact]
    public void ManyAtOnceKeepTheirs() => Parallel.For(0, 64, _ =>
    {
        using var made = ScratchFolder.Make(_folder.Path);
        File.WriteAllText(Path.Combine(made.Path, "file"), "x");
        Thread.Yield();
        Assert.Equal("x", File.ReadAllText(Path.Combine(made.Path, "file")));
    });
}
