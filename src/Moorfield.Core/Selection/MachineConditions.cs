namespace Moorfield.Core.Selection;

/// <summary>
/// The machines that a brief is for: a machine fits when it fits every condition that is given, and it fits a condition of several values when it
/// fits one of them. Values may have <c>*</c> and <c>?</c> as wildcards, in any case.
/// </summary>
public sealed record MachineConditions
{
    /// <summary>Names. Empty if they do not matter, like the others.</summary>
    public ImmutableArray<string> Names { get; init; } = [];

    /// <summary>Makers.</summary>
    public ImmutableArray<string> Makers { get; init; } = [];

    /// <summary>Product names of Windows.</summary>
    public ImmutableArray<string> Products { get; init; } = [];

    /// <summary>Builds of Windows, with or without the revision.</summary>
    public ImmutableArray<string> Builds { get; init; } = [];

    /// <summary>Sites in the directory.</summary>
    public ImmutableArray<string> Sites { get; init; } = [];

    /// <summary>True if a machine fits. What is not known of it fits nothing.</summary>
    public bool Fit(MachineFacts machine) => Fits(Names, machine.Name) && Fits(Makers, machine.Maker) && Fits(Products, machine.Product)
        && (Fits(Builds, machine.Build) || Fits(Builds, machine.Build.Split('.')[0])) && Fits(Sites, machine.Site);

    private static bool Fits(ImmutableArray<string> values, string text) =>
        values.IsEmpty || (text.Length > 0 && values.Any(v => NamePattern.Matches(v, text)));

    /// <summary>The conditions in words.</summary>
    public string Describe() => string.Join(", ", new[]
    {
        ("name", Names), ("maker", Makers), ("product", Products), ("build", Builds), ("site", Sites),
    }.Where(c => !c.Item2.IsEmpty).Select(c => $"{c.Item1} {string.Join(" or ", c.Item2)}"));
}

/// <summary>The ring that has to be done before a brief may be handed over.</summary>
/// <param name="Brief">File of the brief of that ring, in the folder of the one that waits for it.</param>
/// <param name="Done">How many of its machines must have it done: a number of machines, or percent of them.</param>
/// <param name="Days">For how many days.</param>
/// <param name="Source">File and line, for messages.</param>
public sealed record RingCondition(string Brief, int Done, bool IsPercent, int Days, string Source)
{
    /// <summary>How many of so many machines must have it done.</summary>
    public int Of(int machines) => IsPercent ? (int)(((long)machines * Done + 99) / 100) : Done;
}
