namespace Moorfield.Cli.Picking;

/// <summary>The mode that decides the meaning of keys.</summary>
internal enum PickMode
{
    Packages,
    Who,
    OpenBrief,
    SaveBrief,
    Help,
}

/// <summary>The meaning of a choice as a whole.</summary>
/// <param name="Bytes">Of the packages that go.</param>
/// <param name="Costs">A few words each.</param>
internal sealed record PickTotal(int Packages, long Bytes, ImmutableArray<string> Costs);

/// <summary>Everything that a person has chosen and sees, changed only by <see cref="PickKeys"/>.</summary>
internal sealed class PickState
{
    private readonly Func<PickState, PickTotal> _total;
    private ImmutableArray<PickItem> _shown;

    /// <param name="total">Works out what a choice means.</param>
    internal PickState(string place, ImmutableArray<PickItem> items, ImmutableArray<Account> accounts, Func<PickState, PickTotal> total)
    {
        Place = place;
        Items = items;
        Accounts = accounts;
        _total = total;
        Newcomers = true;
        Sids.UnionWith(accounts.Select(a => a.Sid));
        _shown = items;
        Total = new PickTotal(0, 0, []);
    }

    internal string Place { get; }

    internal ImmutableArray<PickItem> Items { get; }

    /// <summary>One of the items in a word.</summary>
    internal string Things => !Items.Any(i => i.DesktopProgram is not null) ? "package" : Items.Any(i => i.Package is not null) ? "item" : "program";

    internal ImmutableArray<Account> Accounts { get; }

    internal PickMode Mode { get; set; }

    internal string Search { get; private set; } = "";

    internal bool BySize { get; private set; }

    internal bool Grouped { get; private set; }

    /// <summary>Identifiers of items.</summary>
    internal HashSet<string> Marked { get; } = new(StringComparer.OrdinalIgnoreCase);

    internal HashSet<string> Sids { get; } = new(StringComparer.OrdinalIgnoreCase);

    internal bool Newcomers { get; set; }

    /// <summary>Index of the highlighted row among <see cref="Shown"/>, or among accounts and newcomers.</summary>
    internal int Cursor { get; private set; }

    /// <summary>How far the details are scrolled.</summary>
    internal int DetailsTop { get; set; }

    /// <summary>The file name that is being typed.</summary>
    internal string Typed { get; set; } = "";

    /// <summary>The last thing worth telling.</summary>
    internal string Message { get; set; } = "";

    internal PickTotal Total { get; private set; }

    internal ImmutableArray<PickItem> Shown => _shown;

    internal PickItem? Highlighted => Cursor < _shown.Length ? _shown[Cursor] : null;

    internal Audience Audience => new([.. Accounts.Select(a => a.Sid).Where(Sids.Contains)], Newcomers);

    internal int RowCount => Mode == PickMode.Who ? Accounts.Length + 1 : _shown.Length;

    internal void Move(int rows)
    {
        Cursor = Math.Clamp(Cursor + rows, 0, Math.Max(0, RowCount - 1));
        DetailsTop = 0;
    }

    internal void StartMode(PickMode mode)
    {
        Mode = mode;
        Message = "";
        Typed = "";
        Cursor = Math.Clamp(mode == PickMode.Who ? 0 : Cursor, 0, Math.Max(0, RowCount - 1));
    }

    internal void SearchFor(string text)
    {
        Search = text;
        Arrange(null);
        Cursor = 0;
    }

    internal void ToggleSize()
    {
        BySize = !BySize;
        Arrange(Highlighted);
    }

    internal void ToggleGroups()
    {
        Grouped = !Grouped;
        Arrange(Highlighted);
    }

    /// <summary>Marks a package, or takes its mark away.</summary>
    internal void Toggle(PickItem item)
    {
        if (!item.CanGo)
            Message = $"{item.Name} cannot be removed. {item.Reasons[0].Text}";
        else if (!Marked.Remove(item.Id))
            Marked.Add(item.Id);
        Recount();
    }

    /// <summary>Marks everything that is shown and may be taken by the dozen.</summary>
    internal void MarkShown()
    {
        var all = _shown.Where(i => i.IsCommon).ToList();
        Marked.UnionWith(all.Select(i => i.Id));
        string which = _shown.Any(i => i.DesktopProgram is not null) ? "parts of the system and desktop programs" : "parts of the system";
        Message = all.Count < _shown.Length ? $"{_shown.Length - all.Count} not marked: {which} are marked one by one." : "";
        Recount();
    }

    /// <summary>Marks everything that is shown, free, and came with the machine.</summary>
    internal void MarkFree()
    {
        var free = _shown.Where(i => i.IsFree).ToLookup(i => i.Package!.Origin == PackageOrigin.Added);
        Marked.UnionWith(free[false].Select(i => i.Id));
        Message = free.Count == 0 ? "Nothing that is shown is free."
            : free[true].Any() ? $"{free[true].Count()} not marked: installed later. Mark them one by one." : "";
        Recount();
    }

    internal void MarkNone()
    {
        Marked.Clear();
        Recount();
    }

    internal void Mark(IEnumerable<string> items)
    {
        Marked.UnionWith(items.Where(id => Items.Any(i => i.Id.Equals(id, StringComparison.OrdinalIgnoreCase) && i.CanGo)));
        Recount();
    }

    internal void Recount() => Total = Marked.Count == 0 ? new PickTotal(0, 0, []) : _total(this);

    private void Arrange(PickItem? stayOn)
    {
        var fitting = Items.Where(i => Search.Length == 0 || i.Fits(Search));
        var sorted = BySize ? fitting.OrderByDescending(i => i.Bytes) : fitting.OrderBy(i => i.Name, StringComparer.OrdinalIgnoreCase);
        _shown = [.. Grouped ? sorted.OrderBy(i => i.Package?.Origin ?? (PackageOrigin)int.MaxValue) : sorted];
        Cursor = Math.Max(0, stayOn is null ? 0 : _shown.IndexOf(stayOn));
        DetailsTop = 0;
    }
}
