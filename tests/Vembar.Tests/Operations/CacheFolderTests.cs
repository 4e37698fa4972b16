using Vembar.Common;
using Vembar.Operations.Access;
using Xunit;

namespace Vembar.Tests;

/// <summary>Where what is sent to a place lies until it is there.</summary>
public sealed class CacheFolderTests : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    private static CacheFolder Cache(string folder) => new(name => name == "VEMBAR_CACHE" ? folder : null);

    [Fact]
    public void WhatIsSentLiesInTheCacheOrWhereThereIsNoneInAFolderOfTheUsers()
    {
        Assert.Equal(_folder.At("cache/spool"), Cache(_folder.At("cache")).SpoolFolder(_folder.Path));
        var temporary = Cache("off").SpoolFolder(_folder.Path);
        Assert.Equal(_folder.Path, Path.GetDirectoryName(temporary));
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute, File.GetUnixFileMode(temporary));
        Assert.Equal(temporary, Cache("off").SpoolFolder(_folder.Path));
        Assert.Equal(temporary, Cache(_folder.Write("file", "")).SpoolFolder(_folder.Path));
    }

    [Theory]
    [InlineData("open")]
    [InlineData("link")]
    [InlineData("file")]
    public void AFolderThatOthersMadeIsNotUsed(string what)
    {
        var path = _folder.At($"vembar-spool-{Environment.UserName}");
        if (what == "link")
            File.CreateSymbolicLink(path, Directory.CreateDirectory(_folder.At("elsewhere")).FullName);
        else if (what == "file")
            File.WriteAllText(path, "");
        else
            File.SetUnixFileMode(Directory.CreateDirectory(path).FullName, (UnixFileMode)0x1FF);
        var error = Assert.Throws<VembarException>(() => Cache("off").SpoolFolder(_folder.Path));
        Assert.Contains(path, error.Message, StringComparison.Ordinal);
        Assert.Equal(ErrorKind.Environment, error.Kind);
    }
}
