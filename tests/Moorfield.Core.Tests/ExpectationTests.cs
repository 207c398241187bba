using Moorfield.Core.Layout;
using Moorfield.Core.Model;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>What is found wrong after a run, for states that are nearly right.</summary>
public sealed class ExpectationTests
{
    private readonly SystemSnapshot _before;
    private readonly InstalledPackage _weather;
    private readonly string _ivy, _rowan;

    public ExpectationTests()
    {
        _before = Bench.Demonstration;
        _weather = _before.Packages.Single(p => p.DisplayName == "Weather");
        (_ivy, _rowan) = (Demo.Sid("ivy"), Demo.Sid("rowan"));
    }

    private RemovalExpectation Removal(string who, bool block = false)
    {
        var chosen = PackageSelector.Find(["Weather"], [_before])[0];
        var plan = RemovalPlanner.Plan(_before, new RemovalRequest(chosen, AudienceParser.Parse([who], _before)));
        plan.Removals.Single().SetsBlock.ShouldBe(block);
        return new RemovalExpectation(_before, plan);
    }

    private SystemSnapshot After(Func<InstalledPackage, InstalledPackage> change, bool block = false) => _before with
    {
        Packages = _before.Packages.Replace(_weather, change(_weather)), Blocks = block ? [.. _before.Blocks, _weather.Family] : _before.Blocks,
    };

    private static string Said(Expectation expectation, SystemSnapshot after, params string[] failed) =>
        string.Join(' ', expectation.Check(after, failed.Contains).Select(d => d.Text))
            .Replace("Northlight.Weather_4.53.51922.0_x64__8pewgm0k42rsa", "It");

    private InstalledPackage Without(InstalledPackage package, string sid) => package with { Accounts = package.Accounts.Remove(sid) };

    [Fact]
    public void After_a_removal_for_one_account_the_others_have_it_as_before()
    {
        var removal = Removal("ivy");
        _weather.Accounts.ShouldBe([_ivy, _rowan, Demo.Sid("counter")], ignoreOrder: true);
        Said(removal, After(p => Without(p, _ivy))).ShouldBe("");
        Said(removal, _before).ShouldBe("It is not registered for the planned accounts.");
        Said(removal, After(p => Without(p, _rowan))).ShouldBe("It is not registered for the planned accounts.");
        Said(removal, After(p => Without(Without(p, _ivy), _rowan))).ShouldBe("It is not registered for the planned accounts.");
        Said(removal, After(p => Without(p, _ivy) with { Newcomers = false })).ShouldBe("It is no longer provisioned.");
        Said(removal, _before with { Packages = _before.Packages.Remove(_weather) }).ShouldBe("It is gone.");
        Said(removal, After(p => Without(p, _ivy), block: true)).ShouldBe("The blocks are not as planned.");
        Said(removal, _before, _weather.Family.ToString()).ShouldBe("");
    }

    [Fact]
    public void Personal_data_of_those_who_keep_it_are_still_there()
    {
        var personal = _weather.FamilyTraces.Where(t => PackagePlaces.Of(t)?.IsPersonal == true).ToList();
        personal.Select(t => t.Sid).ShouldContain(_ivy);
        personal.Select(t => t.Sid).ShouldContain(_rowan);
        SystemSnapshot Losing(Func<Trace, bool> lost) =>
            After(p => Without(p, _ivy) with { FamilyTraces = [.. p.FamilyTraces.Where(t => !lost(t))] });
        Said(Removal("ivy"), Losing(t => t.Sid == _ivy)).ShouldBe("");
        Said(Removal("ivy"), Losing(t => personal.Contains(t) && t.Sid == _rowan)).ShouldBe("It has lost data of accounts that keep it.");
        Said(Removal("ivy"), Losing(t => !personal.Contains(t))).ShouldBe("");
    }

    [Fact]
    public void After_a_removal_for_everyone_it_is_not_there_and_blocked()
    {
        var removal = Removal("everyone", block: true);
        var gone = _before with { Packages = _before.Packages.Remove(_weather), Blocks = [.. _before.Blocks, _weather.Family] };
        Said(removal, gone).ShouldBe("");
        Said(removal, gone with { Blocks = _before.Blocks }).ShouldBe("The blocks are not as planned.");
        Said(removal, After(p => p, block: true)).ShouldBe("It is still there.");
        var newcomers = Removal("newcomers", block: true);
        Said(newcomers, After(p => p with { Newcomers = false }, block: true)).ShouldBe("");
        Said(newcomers, After(p => p, block: true)).ShouldBe("It is still provisioned.");
    }

    [Fact]
    public void What_was_brought_back_is_there_for_all_who_should_have_it()
    {
        BringBackExpectation Back(bool newcomers, params string[] sids) => new(_before, [(_weather.FullName, [.. sids], newcomers)]);
        const string Wrong = "It is not back for all who should have it.";
        Said(Back(true, _ivy, _rowan), _before).ShouldBe("");
        Said(Back(true, _ivy), After(p => p with { Newcomers = false })).ShouldBe(Wrong);
        Said(Back(false, _ivy), After(p => p with { Newcomers = false })).ShouldBe("");
        Said(Back(false, _ivy, _rowan), After(p => Without(p, _ivy))).ShouldBe(Wrong);
        Said(Back(false, _ivy), After(p => p with { HasFiles = false })).ShouldBe(Wrong);
        Said(Back(false, _ivy), _before with { Packages = _before.Packages.Remove(_weather) }).ShouldBe(Wrong + " It is gone.");
        Said(Back(false, _ivy), _before with { Packages = _before.Packages.Remove(_weather) }, _weather.Family.ToString()).ShouldBe("It is gone.");
        Said(new BringBackExpectation(_before, []), After(p => p with { Accounts = [], Newcomers = false })).ShouldBe("It is gone.");
    }

    [Fact]
    public void Blocks_that_were_set_or_lifted_change_nothing_else()
    {
        var set = new BlocksExpectation(_before, [_weather.Family], Blocked: true);
        Said(set, After(p => p, block: true)).ShouldBe("");
        Said(set, _before).ShouldBe("The blocks are not as planned.");
        Said(set, After(p => p with { Accounts = [], Newcomers = false }, block: true)).ShouldBe("The packages are not the same as before.");
        var lifted = new BlocksExpectation(After(p => p, block: true), [_weather.Family], Blocked: false);
        Said(lifted, _before).ShouldBe("");
        Said(lifted, After(p => p, block: true)).ShouldBe("The blocks are not as planned.");
    }

    [Fact]
    public void Leftovers_that_were_cleared_are_not_there()
    {
        _before.Leftovers.ShouldNotBeEmpty();
        var cleared = new LeftoverExpectation(_before);
        Said(cleared, _before with { Leftovers = [] }).ShouldBe("");
        var left = _before.Leftovers[0];
        Said(cleared, _before with { Leftovers = [left] }).ShouldBe($"A leftover is still there: {left.Location}.");
        Said(cleared, _before with { Leftovers = [left] }, left.Family?.ToString() ?? "").ShouldBe("");
    }
}
