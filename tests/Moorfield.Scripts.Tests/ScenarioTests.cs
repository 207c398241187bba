namespace Moorfield.Scripts.Tests;

public sealed class ScenarioTests
{
    public static IEnumerable<TheoryDataRow<string>> Names => AdverseScenarios.All.Keys.Select(n => new TheoryDataRow<string>(n));

    [Theory]
    [MemberData(nameof(Names))]
    public void Scripts_do_what_they_must(string name)
    {
        using var scenarios = new AdverseScenarios(text => text);
        AdverseScenarios.All[name](scenarios);
    }
}
