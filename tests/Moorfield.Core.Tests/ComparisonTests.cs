using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Formats.Appx;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>How two systems differ, package by package.</summary>
public sealed class ComparisonTests
{
    private static ComparedPackage Package(string version = "2.0.0.0", string family = "Tern.Chess_8pewgm0k42rsa", string architecture = "x64",
        long bytes = 100, bool newcomers = false, params string[] accounts) => new(
        family, "Chess", PackageVersion.TryParse(version, out var read) ? read : default, architecture, "Application", bytes, [.. accounts],
        newcomers);

    private static ComparedSystem System(params ComparedPackage[] packages) => new("counter-07", null, "26100", [.. packages], []);

    private static Comparison Of(ComparedPackage[] before, ComparedPackage[] after) => Comparison.Of(System(before), System(after));

    private static PackageDifference Only(ComparedPackage[] before, ComparedPackage[] after) => Of(before, after).Packages.ShouldHaveSingleItem();

    [Fact]
    public void The_highest_versions_tell_what_became_of_a_family()
    {
        Only([], [Package()]).Kind.ShouldBe(PackageDifferenceKind.New);
        Only([Package()], []).Kind.ShouldBe(PackageDifferenceKind.Gone);
        Only([Package("1.9.0.0")], [Package("1.10.0.0")]).Kind.ShouldBe(PackageDifferenceKind.Newer);
        Only([Package("1.10.0.0")], [Package("1.9.0.0")]).Kind.ShouldBe(PackageDifferenceKind.Older);
        var newer = Only([Package("1.0.0.0"), Package("2.0.0.0")], [Package("3.0.0.0"), Package("1.0.0.0")]);
        (newer.Kind, newer.Before.ToString(), newer.After.ToString()).ShouldBe((PackageDifferenceKind.Newer, "2.0.0.0", "3.0.0.0"));
        // Another architecture of a family is another package.
        Of([Package()], [Package(), Package(architecture: "x86")]).Packages.ShouldHaveSingleItem().Kind.ShouldBe(PackageDifferenceKind.New);
        Of([Package(family: "tern.chess_8PEWGM0K42RSA")], [Package()]).IsEmpty.ShouldBeTrue();
    }

    [Fact]
    public void The_same_version_differs_by_who_has_it_by_its_size_and_by_old_versions_beside_it()
    {
        Of([Package(accounts: ["ivy", "rowan"])], [Package(accounts: ["ROWAN", "ivy"])]).IsEmpty.ShouldBeTrue();
        var moved = Only([Package(accounts: ["ivy", "rowan"])], [Package(accounts: ["ivy", "counter"])]);
        (moved.Kind, string.Join(',', moved.Gained), string.Join(',', moved.Lost), moved.Newcomers)
            .ShouldBe((PackageDifferenceKind.Altered, "counter", "rowan", null));
        (Only([Package()], [Package(newcomers: true)]).Newcomers, Only([Package(newcomers: true)], [Package()]).Newcomers).ShouldBe((true, false));
        Only([Package()], [Package(bytes: 130)]).Bytes.ShouldBe(30);
        Only([Package(), Package("1.0.0.0", bytes: 0)], [Package()]).Kind.ShouldBe(PackageDifferenceKind.Altered);
    }

    [Fact]
    public void In_numbers_a_system_is_its_applications_and_the_size_of_everything()
    {
        var totals = System(
            Package(accounts: ["ivy"]) with { StartsWithWindows = true, RunsInBackground = true, HasFiles = true },
            Package(newcomers: true) with { RunsInBackground = true },
            Package(bytes: 7) with { HasFiles = true },
            Package(bytes: 0, family: "Tern.Gone_8pewgm0k42rsa") with { StartsWithWindows = true }, // neither files nor anybody who has it
            Package(newcomers: true, accounts: ["ivy"]) with { Role = "Framework", HasFiles = true, RunsInBackground = true },
            Package(accounts: ["ivy"]) with { Role = "Addon" }).Totals;
        totals.ShouldBe(new SystemTotals(Packages: 4, Bytes: 407, StartWithWindows: 1, RunInBackground: 2, Newcomers: 1));
    }

    [Fact]
    public void Blocks_alone_are_a_difference()
    {
        var plain = System(Package());
        var blocked = plain with { Blocks = ["Tern.Chess_8pewgm0k42rsa"] };
        var came = Comparison.Of(plain, blocked);
        (came.IsEmpty, came.Packages.Length, came.Blocked.Length, came.Unblocked.Length).ShouldBe((false, 0, 1, 0));
        var went = Comparison.Of(blocked, plain);
        (went.IsEmpty, went.Blocked.Length, went.Unblocked.Length).ShouldBe((false, 0, 1));
        Comparison.Of(blocked, blocked with { Blocks = ["TERN.CHESS_8pewgm0k42rsa"] }).IsEmpty.ShouldBeTrue();
        Of([Package()], []).IsEmpty.ShouldBeFalse();
    }
}
