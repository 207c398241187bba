using Moorfield.Core.Assessment;
using Moorfield.Core.HandOver;
using Moorfield.Core.Model;
using Moorfield.Core.Selection;
using Moorfield.Core.Targets;
using Moorfield.Core.Trees;
using Moorfield.Tests;

namespace Moorfield.Scripts.Tests;

public sealed class SurveyTests
{
    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void What_a_survey_tells_is_what_the_volume_tells(bool constrained)
    {
        using var folder = new TemporaryFolder();
        var machine = MadeUpMachine.From(Demo.World, folder);
        var result = Shell.Run(machine, SurveyScript.Write(KnownGuards.All), @"-To C:\", constrained);
        result.Errors.ShouldBeEmpty();
        File.Copy(machine.At(@"C:\survey-COUNTER-07.json"), "/tmp/w/survey.json", true);
        using var target = SurveyTarget.TryOpen(machine.At(@"C:\survey-COUNTER-07.json")).ShouldNotBeNull();
        var survey = target.Read([null], KnownGuards.All)[0];
        using var volume = Target.Open(folder["machine"], new WriteSeam());
        var disk = volume.Read([null], KnownGuards.All)[0];
        Lines(survey).Except(Lines(disk)).ShouldBeEmpty();
        Lines(disk).Except(Lines(survey)).ShouldBeEmpty();
        survey.ClassicPrograms.ShouldBe(disk.ClassicPrograms);
        survey.Blocks.ShouldBe(disk.Blocks);
    }

    /// <summary>What is told of each package, for people.</summary>
    private static List<string> Lines(SystemSnapshot system)
    {
        var judgement = new Judgement(system);
        return
        [
            $"{system.Product} {system.EditionId} {system.Release} {system.Build} {system.Computer} {system.Manufacturer} {system.MachineId}",
            // What only the state repository remembers, a running machine does not tell.
            .. system.Packages.Where(p => p.IsHeld || p.HasFiles).Select(p => $"{p.FullName} {p.DisplayName} {p.Publisher} {p.Role} {p.Origin} {p.Bytes} {p.Newcomers} {p.Blocked} "
                + $"{string.Join(',', p.Accounts)}; {judgement.Of(p).Standing}: {string.Join(' ', judgement.Of(p).Reasons.Select(r => r.Text))}"),
        ];
    }
}
