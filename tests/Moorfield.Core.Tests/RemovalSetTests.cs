using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Core.Reading;
using Moorfield.Core.Storage;
using Moorfield.Core.Trees;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Who has a package before a removal, and who afterwards.</summary>
public sealed class RemovalSetTests
{
    private const string Ivy = "S-1-5-21-1-2-3-1001", Rowan = "S-1-5-21-1-2-3-1002", Hazel = "S-1-5-21-1-2-3-1003";
    private static readonly InstalledPackage Weather = Read();

    private static InstalledPackage Read()
    {
        using var folder = new TemporaryFolder(inMemory: true);
        using var volume = WindowsVolume.Open(Demo.CopyFewTo(folder), new WriteInterceptor());
        return SystemReader.Read(volume, []).Packages.Single(p => p.DisplayName == "Weather");
    }

    private static InstalledPackage With(bool newcomers, params string[] sids) => Weather with { Accounts = [.. sids], Newcomers = newcomers };

    [Fact]
    public void Who_has_it_is_an_account_or_newcomers()
    {
        RemovalSet.Had(With(false, Ivy), Ivy).ShouldBeTrue();
        RemovalSet.Had(With(true, Ivy), Rowan).ShouldBeFalse();
        RemovalSet.Had(With(false, Ivy), null).ShouldBeFalse();
        RemovalSet.Had(With(true), null).ShouldBeTrue();
    }

    [Theory]
    [InlineData(Ivy, true, true)]
    [InlineData(Rowan, true, false)]
    [InlineData(Hazel, false, false)]
    [InlineData(null, true, true)]
    public void It_leaves_those_whom_it_is_taken_from(string? who, bool had, bool leaves)
    {
        var package = With(true, Ivy, Rowan);
        var set = new RemovalSet([(package, [Ivy, Hazel], true)], keepData: false);
        RemovalSet.Had(package, who).ShouldBe(had);
        set.Leaves(package, who).ShouldBe(leaves);
        set.Keeps(package, who).ShouldBe(had && !leaves);
        set.IsKept(package).ShouldBeTrue("rowan keeps it");
        set.Concerns(package).ShouldBeTrue();
        set.Concerns(With(true, Ivy, Rowan)).ShouldBeFalse("it is another record");
    }

    [Fact]
    public void It_is_kept_while_anybody_keeps_it()
    {
        var package = With(true, Ivy, Rowan);
        new RemovalSet([(package, [Ivy, Rowan], false)], keepData: false).IsKept(package).ShouldBeTrue("newcomers keep it");
        new RemovalSet([(package, [Ivy, Rowan], true)], keepData: true).IsKept(package).ShouldBeFalse();
        new RemovalSet([(package, [Rowan], true)], keepData: false).IsKept(package).ShouldBeTrue();
        new RemovalSet([], keepData: true).KeepsData.ShouldBeTrue();
        var everyone = RemovalSet.ForEveryone([package]);
        (everyone.IsKept(package), everyone.KeepsData).ShouldBe((false, false));
    }
}
