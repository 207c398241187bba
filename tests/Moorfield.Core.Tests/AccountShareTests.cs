using System.Collections.Immutable;
using Moorfield.Core.Layout;
using Moorfield.Core.Model;
using Moorfield.Core.Planning;
using Moorfield.Formats.Appx;

namespace Moorfield.Core.Tests;

/// <summary>What of a run's changes one account had.</summary>
public sealed class AccountShareTests
{
    private const string Clock = "Northlight.Clock_8pewgm0k42rsa", Maps = "Northlight.Maps_8pewgm0k42rsa";
    private const string Ivy = "S-1-5-21-1-2-3-1001", Rowan = "S-1-5-21-1-2-3-1002";
    private const string Package = "Northlight.Clock_1.0.0.0_x64__8pewgm0k42rsa";
    private static readonly Account Account = new("ivy", Ivy, WindowsPath.Of(@"Users\ivy"));
    private static readonly WindowsPath Classes = Places.Classes(WindowsPath.Of(@"Users\ivy")),
        OtherClasses = Places.Classes(WindowsPath.Of(@"Users\rowan"));

    private static ImmutableArray<Change> Share(string? number, params ImmutableArray<Change> changes) => AccountShare.Of(changes, [(Account, number)]);

    private static KeyRemoved Key(string key, WindowsPath? hive = null, string family = Clock) => new(family, hive ?? Places.Software, key);

    private static RecordedRow Row(string table, params (string Column, string Value)[] cells) =>
        new(table, null, [.. cells.Select(c => new RecordedCell(c.Column, "integer", c.Value))]);

    private static RowsRemoved Rows(string? sid, params ImmutableArray<RecordedRow> rows) =>
        new(Clock, PackageRoots.Usual.Database, PackageFullName.TryParse(Package, out var name) ? name : null, sid, rows);

    [Fact]
    public void Its_own_entries_are_its_share_and_those_of_others_are_not()
    {
        var own = new Change[]
        {
            Key($@"{Places.Store}\{Ivy}\{Package}"), Key(@"Local Settings\Clock", Classes),
            new TreeRemoved(Clock, WindowsPath.Of(@"Users\ivy\AppData\Clock")), Rows(Ivy),
        };
        var others = new Change[]
        {
            Key($@"{Places.Store}\{Rowan}\{Package}"), Key(@"Local Settings\Clock", OtherClasses),
            new TreeRemoved(Clock, WindowsPath.Of(@"Users\rowan\AppData\Clock")), Rows(Rowan), Key($@"{Places.Provisioned}\{Package}"),
            Key($@"{Places.Blocks}\{Clock}"), new ValueChanged(Clock, Places.Software, @"Policies\Clock", "Off", null, null),
            new EntryRemoved(Clock, Places.Pins, "{}"),
        };
        Share(null, [.. own, .. others]).ShouldBe(own);
        Share(null, [.. others, .. own]).ShouldBe(own);
    }

    [Fact]
    public void What_the_machine_had_of_its_packages_comes_with_it()
    {
        var own = Key($@"{Places.Store}\{Ivy}\{Package}");
        var machine = new Change[] { Key($@"{Places.MachinePackages}\{Package}"), new TreeRemoved(Clock, PackageRoots.Usual.Packages / Package),
            new RowsAdded(Clock, PackageRoots.Usual.Database, []) };
        Share(null, [.. machine, own]).ShouldBe([.. machine, own]);
        // Of packages that it did not have nothing comes.
        Share(null, [own, Key($@"{Places.MachinePackages}\Maps", family: Maps)]).ShouldBe([own]);
        Share(null, machine.ToImmutableArray()).ShouldBeEmpty();
    }

    [Fact]
    public void Rows_of_the_machine_come_without_what_tells_of_others()
    {
        var package = Row("Package", ("_PackageID", "7"));
        var ofIvy = Row("PackageUser", ("_PackageUserID", "1"), ("Package", "7"), ("User", "3"));
        var ofRowan = Row("PackageUser", ("_PackageUserID", "2"), ("Package", "7"), ("User", "4"));
        var belowRowan = Row("Setting", ("PackageUser", "2"));
        var all = Rows(null, package, ofIvy, ofRowan, belowRowan);
        var share = Share("3", all).ShouldHaveSingleItem().ShouldBeOfType<RowsRemoved>();
        share.Rows!.Value.ShouldBe([package, ofIvy]);
        // An account that has no number there has no row there either.
        Share(null, all).ShouldBeEmpty();
        Share(null, all, Key($@"{Places.Store}\{Ivy}\{Package}")).OfType<RowsRemoved>().ShouldHaveSingleItem().Rows!.Value.ShouldBe([package]);
    }
}
