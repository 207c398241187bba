using System.Text.Json;
using Moorfield.Core.HandOver;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Scripts.Tests;

/// <summary>The script that tests on a machine what the others take for granted.</summary>
public sealed class CheckMachineTests : IDisposable
{
    private static readonly byte[] Script = GateTests.Script(HandOverFiles.Check);
    private readonly TemporaryFolder _folder = new(inMemory: true);

    public void Dispose() => _folder.Dispose();

    private static Dictionary<string, bool> Check(MadeUpMachine machine, bool constrained = false, bool old = false)
    {
        string[] before = [.. machine.Registry.Lines()];
        string[] files = Directory.GetFileSystemEntries(machine.Drive, "*", SearchOption.AllDirectories);
        var result = Shell.Run(machine, Script, @"-To C:\", constrained, old);
        result.Errors.ShouldBeEmpty();
        machine.Registry.Lines().ShouldBe(before);
        string written = machine.At(@"C:\check-COUNTER-07.json");
        Directory.GetFileSystemEntries(machine.Drive, "*", SearchOption.AllDirectories).Except(files).Where(f => f != written && !f.EndsWith("Temp",
            StringComparison.Ordinal)).ShouldBeEmpty();
        using var document = JsonDocument.Parse(File.ReadAllText(written));
        var lines = document.RootElement.GetProperty("lines").EnumerateArray().ToList();
        result.Output.Count.ShouldBe(lines.Count + 1);
        result.ExitCode.ShouldBe(lines.All(l => l.GetProperty("asExpected").GetBoolean()) ? 0 : 3);
        return lines.GroupBy(l => l.GetProperty("name").GetString()!).ToDictionary(g => g.Key, g => g.All(l => l.GetProperty("asExpected")
            .GetBoolean()));
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void On_a_machine_as_expected_all_is_but_the_shell_of_the_tests(bool constrained)
    {
        var machine = MadeUpMachine.FromVolume(Demo.CopyFewTo(_folder));
        machine.Software.Create(@"Microsoft\Windows NT\CurrentVersion\ProfileList").Values["ProfilesDirectory"] =
            HiveValue.FromString("ProfilesDirectory", @"%SystemDrive%\Users", HiveValueType.ExpandString);
        var lines = Check(machine, constrained);
        lines.Count.ShouldBeGreaterThan(25);
        lines.Where(l => !l.Value).Select(l => l.Key).ShouldBe(["the shell is 5.1, of 64 bits"]);
    }

    [Fact]
    public void What_is_otherwise_is_named()
    {
        var machine = MadeUpMachine.FromVolume(Demo.CopyFewTo(_folder));
        machine.Packages[0].States["S-1-5-21-1"] = "Paused";
        machine.Packages[0].Users.Add("S-1-5-21-1");
        machine.Hidden.Add(@"HKEY_USERS\S-1-5-19");
        var lines = Check(machine, old: true);
        foreach (string name in new[]
        {
            "it runs as administrator or as SYSTEM", "Remove-AppxPackage has the parameters that are used", "an install state is one that is known",
            "Remove-AppxProvisionedPackage has the parameters that are used",
        })
            lines[name].ShouldBeFalse(name);
        var broken = MadeUpMachine.FromVolume(Demo.CopyFewTo(_folder, "broken"));
        broken.IsBroken = true;
        lines = Check(broken);
        lines["the packages of all users are listed"].ShouldBeFalse();
        lines["names of provisioned packages are full names"].ShouldBeFalse();
    }
}
