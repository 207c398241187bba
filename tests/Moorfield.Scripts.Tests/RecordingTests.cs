using System.Text.Json;
using System.Text.RegularExpressions;

namespace Moorfield.Scripts.Tests;

/// <summary>Holds the scripts against what machines call things, as surveys of them recorded it.</summary>
public sealed class RecordingTests
{
    public static IEnumerable<TheoryDataRow<string>> Recordings =>
        Directory.GetFiles(Path.Combine(SurveyTests.Root(), "tests/data/recordings"), "*.json")
            .Select(f => new TheoryDataRow<string>(Path.GetFileName(f)));

    [Theory]
    [MemberData(nameof(Recordings))]
    public void A_machine_calls_things_as_the_scripts_take_for_granted(string name)
    {
        using var document = JsonDocument.Parse(File.ReadAllText(Path.Combine(SurveyTests.Root(), "tests/data/recordings", name)));
        var recording = document.RootElement;
        string code = File.ReadAllText(Path.Combine(SurveyTests.Root(), "src/Moorfield.Core/HandOver/common.ps1"));
        string[] known = [.. Regex.Matches(code, @"(?<=\$State -match ')[^']+", RegexOptions.None, TimeSpan.FromSeconds(1)).Select(m => m.Value)];
        known.Length.ShouldBe(3);
        var states = recording.GetProperty("states").EnumerateArray().Select(s => s.GetProperty("name").GetString()!).ToList();
        states.ShouldNotBeEmpty();
        states.ShouldAllBe(s => known.Any(k => Regex.IsMatch(s, k, RegexOptions.IgnoreCase, TimeSpan.FromSeconds(1))));
        var commands = recording.GetProperty("commands").EnumerateArray().ToList();
        commands.ShouldNotBeEmpty();
        foreach (var command in commands)
        {
            string called = command.GetProperty("name").GetString()!;
            var used = GateTests.Commands[called].Split(' ', StringSplitOptions.RemoveEmptyEntries).Select(p => p.Split('=')[0].TrimEnd('!'));
            used.Except(command.GetProperty("parameters").EnumerateArray().Select(p => p.GetString()!), StringComparer.OrdinalIgnoreCase)
                .ShouldBeEmpty(called);
        }
    }
}
