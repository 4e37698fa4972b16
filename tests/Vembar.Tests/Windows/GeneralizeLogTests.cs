using Vembar.Windows.Inspection;
using Xunit;

namespace Vembar.Tests.Windows;

/// <summary>What the logs of generalizing say.</summary>
public class GeneralizeLogTests
{
    private const string At = "2026-11-27 10:12:03, Error                 SYSPRP ";

    [Theory]
    [InlineData("Package Wharf.Reader_1.2.3.0_x64__k3n2 was installed for a user, but not provisioned for all users. This package will not "
        + "function properly in the sysprep image.", "generalize-app", "Wharf.Reader_1.2.3.0_x64__k3n2")]
    [InlineData("Sysprep_Clean_Validate_Opk: Audit mode cannot be turned on if reserved storage is in use. An update or servicing "
        + "operation may be using reserved storage.; hr = 0x800F0975", "generalize-updates", "")]
    [InlineData("There are one or more Windows updates that require a reboot.", "generalize-updates", "")]
    [InlineData("Hit failure while processing: the maximum number of allowed rearms; hr = 0xC004D307", "generalize-limit", "")]
    [InlineData("BitLocker-Enabled: the OS volume is protected; hr = 0x80310039", "generalize-bitlocker", "")]
    [InlineData("Sysprep will not run on an upgraded OS.", "generalize-upgraded", "")]
    [InlineData(@"LaunchDll:Failure occurred while executing 'C:\Windows\System32\msdtcprx.dll,SysPrepDtcCleanup', returned error code -2",
        "generalize-service", @"C:\Windows\System32\msdtcprx.dll")]
    public void AReasonIsKnown(string line, string check, string subject)
    {
        var reason = Assert.Single(GeneralizeLog.Reasons($"{At}{line}\r\n{At}{line}\r\n"));
        Assert.Equal((check, subject), (reason.Check, reason.Subject));
        Assert.NotEmpty(reason.Remedy);
    }

    [Fact]
    public void OnlyTheLastRunCountsAndOnlyItsErrors()
    {
        const string Begin = "2026-11-27 10:00:00, Info                  SYSPRP === Beginning of a new sysprep run ===\n";
        var log = Begin + $"{At}BitLocker is on\n" + Begin + "2026-11-27 11:00:00, Info                  SYSPRP BitLocker is off\n";
        Assert.Empty(GeneralizeLog.Reasons(log));
        Assert.Equal("", GeneralizeLog.LastError(log));
        Assert.Equal($"{At}something else", GeneralizeLog.LastError($"{log}{At}something else\n"));
    }

    [Fact]
    public void HowOftenIsCounted() => Assert.Equal(2, GeneralizeLog.Runs(
        "x, Info  SYSPRP ParseCommands:Found supported command line option 'GENERALIZE'\n"
        + "x, Info  SYSPRP ParseCommands:Found supported command line option 'OOBE'\n"
        + "x, Info  SYSPRP ParseCommands:Found supported command line option 'GENERALIZE'\n"));

    [Fact]
    public void WhateverStandsInALogIsRead()
    {
        var random = new Random(4);
        for (var turn = 0; turn < 200; turn++)
        {
            var text = new string([.. Enumerable.Range(0, 400).Select(_ => (char)random.Next(1,
                0x250))]) + $"\n{At}{(char)random.Next(1, 99)}";
            Assert.All(GeneralizeLog.Reasons(text), r => Assert.NotEmpty(r.Line));
        }
    }
}
