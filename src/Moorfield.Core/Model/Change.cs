using Moorfield.Formats.Defaults;

namespace Moorfield.Core.Model;

/// <summary>The state of a change, compared with the system as it is now.</summary>
public enum ChangeState
{
    /// <summary>The system is as it was before the change.</summary>
    Pending,
    /// <summary>The system is as the change leaves it.</summary>
    Done,
    /// <summary>The system is neither: something else altered it.</summary>
    Conflict,
}

/// <summary>
/// One reversible alteration of a system. A planned change says only where; a recorded one also has the before-image (or, for what is
/// added, the content), and can then be inverted.
/// </summary>
/// <param name="Family">Family name of the package it is for.</param>
public abstract record Change(string Family)
{
    /// <summary>Number of the edition that it is in; null on a volume.</summary>
    public int? Edition { get; init; }

    /// <summary>The change that puts things back.</summary>
    public abstract Change Invert();

    /// <summary>One line: what happens where.</summary>
    public abstract string Describe();

    /// <summary>Identifies what it alters, to find out whether a later change of the same run alters the same.</summary>
    internal abstract object Where { get; }
}

/// <summary>A change inside a registry hive.</summary>
/// <param name="Hive">Path of the hive.</param>
/// <param name="Key">Path of the key inside the hive.</param>
public abstract record HiveChange(string Family, WindowsPath Hive, string Key) : Change(Family)
{
    internal override object Where => (Hive, Key, "");

    internal string KeyName => Key[(Key.LastIndexOf('\\') + 1)..];

    internal string ParentKey => Key.LastIndexOf('\\') is var last and >= 0 ? Key[..last] : "";

    /// <summary>This change with its before-image; null when the hive is already as the change leaves it.</summary>
    internal abstract HiveChange? Capture(Hive hive);

    internal abstract ChangeState State(Hive hive);

    internal abstract void Apply(Hive hive);

    /// <summary>This change, made to fit what is there now instead of what was expected.</summary>
    internal virtual IEnumerable<HiveChange> OverwriteWith(Hive hive) => [this];
}

/// <summary>A key goes, with all below it.</summary>
public sealed record KeyRemoved(string Family, WindowsPath Hive, string Key, RecordedKey? Recorded = null) : HiveChange(Family, Hive, Key)
{
    public override Change Invert() => new KeyAdded(Family, Hive, Key, Recorded);

    public override string Describe() => $"registry key removed: {Hive}: {Key}";

    internal override HiveChange? Capture(Hive hive) => hive.Find(Key) is { } key ? this with { Recorded = key.Export() } : null;

    internal override ChangeState State(Hive hive) =>
        hive.Find(Key) is not { } key ? ChangeState.Done : Recorded is null || key.Export() == Recorded ? ChangeState.Pending : ChangeState.Conflict;

    internal override void Apply(Hive hive) => hive.Find(Key)?.Delete();
}

/// <summary>A key comes, with all below it.</summary>
/// <param name="Recorded">Null for an empty key.</param>
public sealed record KeyAdded(string Family, WindowsPath Hive, string Key, RecordedKey? Recorded = null) : HiveChange(Family, Hive, Key)
{
    private RecordedKey Content => Recorded ?? new RecordedKey(KeyName, [], []);

    public override Change Invert() => new KeyRemoved(Family, Hive, Key, Content);

    public override string Describe() => $"registry key added: {Hive}: {Key}";

    internal override HiveChange? Capture(Hive hive) => hive.Find(Key) is null ? this with { Recorded = Content } : null;

    internal override ChangeState State(Hive hive) =>
        hive.Find(Key) is not { } key ? ChangeState.Pending : key.Export() == Content ? ChangeState.Done : ChangeState.Conflict;

    internal override void Apply(Hive hive) => hive.Create(ParentKey).Import(Content);

    internal override IEnumerable<HiveChange> OverwriteWith(Hive hive) =>
        hive.Find(Key) is { } key ? [new KeyRemoved(Family, Hive, Key, key.Export()), this] : [this];
}

/// <summary>A value is set, altered or taken away.</summary>
/// <param name="Before">Null when there was none.</param>
/// <param name="After">Null when there is none afterwards.</param>
public sealed record ValueChanged(string Family, WindowsPath Hive, string Key, string Name, HiveValue? Before, HiveValue? After)
    : HiveChange(Family, Hive, Key)
{
    internal override object Where => (Hive, Key, Name);

    public override Change Invert() => this with { Before = After, After = Before };

    public override string Describe() => $"registry value {(After is null ? "removed" : "set")}: {Hive}: {Key}: {Name}";

    internal override HiveChange? Capture(Hive hive)
    {
        var now = hive.Find(Key)?.Value(Name);
        return now == After ? null : this with { Before = now };
    }

    internal override ChangeState State(Hive hive)
    {
        var now = hive.Find(Key)?.Value(Name);
        return now == After ? ChangeState.Done : now == Before ? ChangeState.Pending : ChangeState.Conflict;
    }

    internal override void Apply(Hive hive)
    {
        if (After is not null)
            hive.Create(Key).Set(After);
        else
            hive.Find(Key)?.Remove(Name);
    }

    internal override IEnumerable<HiveChange> OverwriteWith(Hive hive) => [this with { Before = hive.Find(Key)?.Value(Name) }];
}

/// <summary>Writes the contents of a hive's transaction logs into it, and empties them.</summary>
/// <param name="Writes">How many entries, or sectors of an older log, they hold for it.</param>
public sealed record LogsReplayed(WindowsPath Hive, int Writes) : Change("")
{
    internal override object Where => (Hive, "logs");

    public override Change Invert() => new LogsReturned(Hive, Writes);

    public override string Describe() => $"transaction logs written into the hive: {Hive} ({Writes:N0} {(Writes == 1 ? "write" : "writes")})";
}

/// <summary>A hive is as it was before its transaction logs were written into it, and they are full again: only with the whole files.</summary>
public sealed record LogsReturned(WindowsPath Hive, int Writes) : Change("")
{
    internal override object Where => (Hive, "logs");

    public override Change Invert() => new LogsReplayed(Hive, Writes);

    public override string Describe() => $"hive with its transaction logs as they were: {Hive}";
}

/// <summary>A change to a tree of files.</summary>
/// <param name="Path">In the tree.</param>
public abstract record TreeChange(string Family, WindowsPath Path, RecordedTree? Recorded) : Change(Family)
{
    internal override object Where => Path;
}

/// <summary>A file, link or folder goes, with all below it.</summary>
public sealed record TreeRemoved(string Family, WindowsPath Path, RecordedTree? Recorded = null) : TreeChange(Family, Path, Recorded)
{
    public override Change Invert() => new TreeAdded(Family, Path, Recorded);

    public override string Describe() => $"files removed: {Path}";
}

/// <summary>A recorded file, link or folder comes back, with all below it.</summary>
public sealed record TreeAdded(string Family, WindowsPath Path, RecordedTree? Recorded) : TreeChange(Family, Path, Recorded)
{
    public override Change Invert() => new TreeRemoved(Family, Path, Recorded);

    public override string Describe() => $"files added: {Path}";
}

/// <summary>A change in a file that lists what new accounts are given.</summary>
/// <param name="File">Path of the list.</param>
/// <param name="Text">The entry as it is written.</param>
/// <param name="Index">Its number in the list, from 0; null in a plan.</param>
/// <param name="Gap">The white space that sets it off.</param>
public abstract record EntryChange(string Family, WindowsPath File, string Text, int? Index, string? Gap) : Change(Family)
{
    internal override object Where => (File, Text);

    /// <summary>Where the entry is in a list; -1 when it is not there.</summary>
    protected int IndexIn(ListFile list) =>
        Index is { } index && index < list.Entries.Length && list.Entries[index].Text == Text ? index
            : list.Entries.IndexOf(list.Entries.FirstOrDefault(e => e.Text == Text)!);

    internal abstract ChangeState State(ListFile list);

    /// <summary>
    /// The list with this change made, and the change with its before-image; null when the list is already as the change leaves it.
    /// </summary>
    internal abstract (ListFile List, EntryChange Change)? Apply(ListFile list);
}

/// <summary>An entry goes.</summary>
public sealed record EntryRemoved(string Family, WindowsPath File, string Text, int? Index = null, string? Gap = null)
    : EntryChange(Family, File, Text, Index, Gap)
{
    public override Change Invert() => new EntryAdded(Family, File, Text, Index, Gap);

    public override string Describe() => $"list entry removed: {File}: {Text}";

    internal override ChangeState State(ListFile list) => IndexIn(list) < 0 ? ChangeState.Done : ChangeState.Pending;

    internal override (ListFile List, EntryChange Change)? Apply(ListFile list)
    {
        int index = IndexIn(list);
        if (index < 0)
            return null;
        var (without, gap) = list.Without(index);
        return (without, this with { Index = index, Gap = gap });
    }
}

/// <summary>An entry comes back.</summary>
public sealed record EntryAdded(string Family, WindowsPath File, string Text, int? Index, string? Gap) : EntryChange(Family, File, Text, Index, Gap)
{
    public override Change Invert() => new EntryRemoved(Family, File, Text, Index, Gap);

    public override string Describe() => $"list entry added: {File}: {Text}";

    internal override ChangeState State(ListFile list) => IndexIn(list) < 0 ? ChangeState.Pending : ChangeState.Done;

    internal override (ListFile List, EntryChange Change)? Apply(ListFile list) =>
        IndexIn(list) >= 0 ? null : (list.With(Index ?? list.Entries.Length, Text, Gap ?? ""), this);
}

/// <summary>A change in the state repository.</summary>
/// <param name="Database">The state repository's file.</param>
public abstract record RowsChange(string Family, WindowsPath Database, ImmutableArray<RecordedRow>? Rows) : Change(Family)
{
    internal override object Where => this;
}

/// <summary>Rows go: a package with everything that refers to it, or its registration for one account.</summary>
/// <param name="FullName">The package.</param>
/// <param name="Sid">The account; null when the whole package goes.</param>
public sealed record RowsRemoved(
    string Family, WindowsPath Database, PackageFullName? FullName, string? Sid, ImmutableArray<RecordedRow>? Rows = null)
    : RowsChange(Family, Database, Rows)
{
    public override Change Invert() => new RowsAdded(Family, Database, Rows);

    public override string Describe() =>
        $"state repository: rows of {FullName?.ToString() ?? Family} removed{(Sid is null ? "" : $" for {Sid}")}"
            + (Rows is { } rows ? $" ({rows.Length})" : "");
}

/// <summary>Recorded rows come back.</summary>
public sealed record RowsAdded(string Family, WindowsPath Database, ImmutableArray<RecordedRow>? Rows)
    : RowsChange(Family, Database, Rows)
{
    public override Change Invert() => new RowsRemoved(Family, Database, null, null, Rows);

    public override string Describe() => $"state repository: {Rows?.Length ?? 0} rows of {Family} added";
}

/// <summary>One row of a table.</summary>
/// <param name="RowId">Only for tables whose row number is not one of the columns.</param>
public sealed record RecordedRow(string Table, long? RowId, ImmutableArray<RecordedCell> Cells)
{
    /// <summary>Those of some rows that tell what an account has: with an account's number, or referring to such a row.</summary>
    /// <param name="number">Of one account; null for all.</param>
    internal static HashSet<RecordedRow> OfAccounts(IEnumerable<RecordedRow> rows, string? number = null)
    {
        var all = rows.ToList();
        var found = all.Where(r => r.Cells.Any(c => c.Column.Equals("User", StringComparison.OrdinalIgnoreCase)
            && (number is null || c.Value == number))).ToHashSet();
        while (all.Where(r => !found.Contains(r) && found.Any(f => f.Cells.Any(k => k.Column.Equals($"_{f.Table}ID",
            StringComparison.OrdinalIgnoreCase)
            && r.Cells.Any(c => c.Column.Equals(f.Table, StringComparison.OrdinalIgnoreCase)
                && c.Value == k.Value)))).ToList() is { Count: > 0 } more)
            found.UnionWith(more);
        return found;
    }
}

/// <summary>One cell of a row.</summary>
/// <param name="Type">null, integer, real, text or blob, as SQLite stored it.</param>
/// <param name="Value">In decimal for numbers, base 64 for blobs; null for null.</param>
public sealed record RecordedCell(string Column, string Type, string? Value);

/// <summary>A change of what an image file says of its editions, or which it has. The numbers are those from before the run.</summary>
/// <param name="Number">Of the edition, from 1.</param>
public abstract record ImageChange(int Number) : Change("")
{
    internal override object Where => Number;
}

/// <summary>An edition goes; those after it are numbered again.</summary>
public sealed record EditionDropped(int Number, string Name) : ImageChange(Number)
{
    public override Change Invert() => new EditionReturned(Number, Name);

    public override string Describe() => $"edition {Number} ({Name}) dropped";
}

/// <summary>An edition comes back: only with the whole file, as it was before.</summary>
public sealed record EditionReturned(int Number, string Name) : ImageChange(Number)
{
    public override Change Invert() => new EditionDropped(Number, Name);

    public override string Describe() => $"edition {Number} ({Name}) back";
}

/// <summary>An edition gets another name or description.</summary>
public sealed record EditionRenamed(int Number, string NameBefore, string NameAfter, string DescriptionBefore, string DescriptionAfter)
    : ImageChange(Number)
{
    public override Change Invert() => new EditionRenamed(Number, NameAfter, NameBefore, DescriptionAfter, DescriptionBefore);

    public override string Describe() => $"edition {Number} renamed: '{NameAfter}' ('{DescriptionAfter}')";
}
