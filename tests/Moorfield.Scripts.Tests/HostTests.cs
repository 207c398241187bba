using Moorfield.Core.HandOver;
using Moorfield.Core.Selection;
using Moorfield.Tests;

namespace Moorfield.Scripts.Tests;

/// <summary>Runs alone: the environment that it changes is everybody's.</summary>
[CollectionDefinition("environment", DisableParallelization = true)]
public sealed class EnvironmentTests;

[Collection("environment")]
public sealed class HostTests : IDisposable
{
    private const string Native = @"C:\Windows\SysNative\WindowsPowerShell\v1.0\powershell.exe";
    private readonly TemporaryFolder _folder = new(inMemory: true);

    public void Dispose()
    {
        Environment.SetEnvironmentVariable("PROCESSOR_ARCHITEW6432", null);
        Environment.SetEnvironmentVariable("PROCESSOR_ARCHITECTURE", null);
        _folder.Dispose();
    }

    [Theory]
    [InlineData("survey")]
    [InlineData(HandOverFiles.Remediate)]
    [InlineData(HandOverFiles.Detect)]
    [InlineData(HandOverFiles.Undo)]
    public void In_a_32_bit_host_the_64_bit_shell_does_it(string name)
    {
        var machine = MadeUpMachine.FromVolume(Demo.CopyFewTo(_folder, "machine"));
        string[] before = [.. machine.Registry.Lines()];
        Environment.SetEnvironmentVariable("PROCESSOR_ARCHITEW6432", "AMD64");
        Directory.CreateDirectory(Path.GetDirectoryName(machine.At(Native))!);
        File.WriteAllText(machine.At(Native), "");
        string? arguments = null;
        machine.Programs[Native] = given =>
        {
            arguments = given;
            return 3;
        };
        var result = Shell.Run(machine, GateTests.Script(name));
        result.Errors.ShouldBeEmpty();
        result.ExitCode.ShouldBe(3);
        arguments.ShouldNotBeNull().ShouldContain("-NoProfile -ExecutionPolicy Bypass -File \"");
        machine.Registry.Lines().ShouldBe(before);
        Directory.GetFiles(machine.Drive, "survey-*").ShouldBeEmpty();
    }

    [Theory]
    [InlineData("survey")]
    [InlineData(HandOverFiles.Remediate)]
    [InlineData(HandOverFiles.Detect)]
    [InlineData(HandOverFiles.Undo)]
    public void A_shell_that_does_not_say_how_it_ended_has_failed(string name)
    {
        var machine = MadeUpMachine.FromVolume(Demo.CopyFewTo(_folder, "machine"));
        Environment.SetEnvironmentVariable("PROCESSOR_ARCHITEW6432", "AMD64");
        Directory.CreateDirectory(Path.GetDirectoryName(machine.At(Native))!);
        File.WriteAllText(machine.At(Native), "");
        machine.Programs[Native] = _ => int.MinValue;
        Shell.Run(machine, GateTests.Script(name)).ExitCode.ShouldBe(1);
    }

    [Theory]
    [InlineData(false, true)]
    [InlineData(true, true)]
    [InlineData(false, false)] // a spoilt copy
    public void Newer_TLS_is_asked_for_where_the_shell_may_say_so(bool constrained, bool asks)
    {
#pragma warning disable SYSLIB0014 // what the 5.1 shell goes by
        System.Net.ServicePointManager.SecurityProtocol = System.Net.SecurityProtocolType.SystemDefault;
        var machine = MadeUpMachine.FromVolume(Demo.CopyFewTo(_folder, "machine"));
        var plan = Scenarios.Plan(["*"], true) with { ListAddress = "https://lists.saltmarsh.example/counters.list" };
        string script = System.Text.Encoding.UTF8.GetString(GateTests.Script(HandOverFiles.Detect, plan));
        script = asks ? script : script.Replace("if ($IsFull) {", "if ($false) {", StringComparison.Ordinal);
        Shell.Run(machine, System.Text.Encoding.UTF8.GetBytes(script), constrained: constrained).Errors.ShouldBeEmpty();
        machine.Fetched.ShouldHaveSingleItem();
        System.Net.ServicePointManager.SecurityProtocol.ShouldBe(asks && !constrained ? System.Net.SecurityProtocolType.Tls12
            : System.Net.SecurityProtocolType.SystemDefault);
#pragma warning restore SYSLIB0014
    }

    [Fact]
    public void A_survey_that_stays_in_a_32_bit_host_says_so_and_leaves_everything_open()
    {
        var machine = MadeUpMachine.FromVolume(Demo.CopyFewTo(_folder, "machine"));
        Environment.SetEnvironmentVariable("PROCESSOR_ARCHITEW6432", "AMD64");
        Environment.SetEnvironmentVariable("PROCESSOR_ARCHITECTURE", "x86");
        Shell.Run(machine, SurveyScript.Write(KnownGuards.All), @"-To C:\").ExitCode.ShouldBe(3);
        using var target = Core.Targets.SurveyTarget.TryOpen(machine.At(@"C:\survey-COUNTER-07.json")).ShouldNotBeNull();
        target.Gaps.ShouldContain(g => g.Contains("32-bit", StringComparison.Ordinal));
        var system = target.Read([null])[0];
        var assessment = new Core.Assessment.RemovalAssessment(system);
        system.Packages.Where(p => p.Role == Core.Model.PackageRole.Application && p.IsHeld)
            .ShouldAllBe(p => assessment.Of(p).Costs.Any(c => c.Code == "notKnown"));
    }
}
