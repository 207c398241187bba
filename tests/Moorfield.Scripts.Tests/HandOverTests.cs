using System.Collections.Immutable;
using System.Text;
using Moorfield.Core.Assessment;
using Moorfield.Core.HandOver;
using Moorfield.Core.Model;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Core.Targets;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Scripts.Tests;

/// <summary>Runs the generated scripts of hand-overs on made-up machines.</summary>
public sealed class HandOverTests : IDisposable
{
    private readonly TemporaryFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    private MadeUpMachine Machine(string name = "machine") => MadeUpMachine.FromVolume(Demo.CopyFewTo(_folder, name));

    private static SystemSnapshot Survey(MadeUpMachine machine, IReadOnlyCollection<Guard>? guards = null)
    {
        var result = Shell.Run(machine, SurveyScript.Write(guards ?? KnownGuards.All), @"-To C:\");
        result.Errors.ShouldBeEmpty();
        using var target = SurveyTarget.TryOpen(machine.At(@"C:\survey-COUNTER-07.json"))!;
        return target.Read([null], guards ?? KnownGuards.All)[0];
    }

    private static (HandOverPlan HandOver, Plan Plan) Plan(
        SystemSnapshot system, string who, IEnumerable<string> packages, IEnumerable<Guard>? guards = null, bool allowReturn = false)
    {
        var audience = Who.Parse([who], system);
        var wish = new RemovalWish(PackageChoice.Find([.. packages], [system])[0], audience, AllowReturn: allowReturn)
        {
            Guards = GuardStates.Of(system, [.. guards ?? []], audience),
        };
        var plan = RemovalPlanner.Plan(system, wish);
        return (HandOverPlan.Of([who], [new SystemPlan(system, plan)], null), plan);
    }

    private static byte[] File(HandOverPlan plan, string name) => HandOverFiles.Write(plan).Single(f => f.Name == name).Content;

    [Fact]
    public void After_remediation_the_machine_holds_what_was_planned_and_a_second_run_does_nothing()
    {
        var machine = Machine();
        machine.SignOut(machine.Accounts[1].Sid);
        var before = Survey(machine);
        var (handOver, plan) = Plan(before, "everyone", ["Weather", "Larkfield Crossword", "Calculator"], KnownGuards.All);
        Shell.Run(machine, File(handOver, HandOverFiles.Detect)).ExitCode.ShouldBe(1);
        var watch = System.Diagnostics.Stopwatch.StartNew();
        var result = Shell.Run(machine, File(handOver, HandOverFiles.Remediate));
        Console.WriteLine($"remediate {watch.Elapsed}");
        result.Errors.ShouldBeEmpty();
        result.Output.ShouldHaveSingleItem();
        Console.WriteLine(result.Output[0]);
        result.ExitCode.ShouldBe(0);
        new RemovalExpectation(before, plan).Check(Survey(machine), _ => false).ShouldBeEmpty();
        machine.Forget();
        result = Shell.Run(machine, File(handOver, HandOverFiles.Remediate));
        result.ExitCode.ShouldBe(0, string.Join('\n', result.Errors));
        Console.WriteLine(result.Output[0]);
        machine.Calls.ShouldAllBe(c => c.StartsWith("reg.exe"));
        result = Shell.Run(machine, File(handOver, HandOverFiles.Detect));
        result.ExitCode.ShouldBe(0);
        Console.WriteLine(result.Output[0]);
        result = Shell.Run(machine, File(handOver, HandOverFiles.Undo));
        result.Errors.ShouldBeEmpty();
        Console.WriteLine(result.Output[0]);
    }
}
