namespace Moorfield.Core.Model;

/// <summary>The consequence of removing a package.</summary>
public enum PackageStanding
{
    /// <summary>Nothing else is lost with it.</summary>
    Free,
    /// <summary>It costs something: the reasons say what.</summary>
    Costly,
    /// <summary>Part of the system, but people see and open it: removed only when named exactly.</summary>
    Protected,
    /// <summary>The system or a staying package cannot do without it: refused.</summary>
    Essential,
}

/// <summary>The direction in which a reason argues.</summary>
public enum ReasonKind
{
    /// <summary>It keeps the package from being removed like any other.</summary>
    Bar,
    /// <summary>Removing the package loses something.</summary>
    Cost,
    /// <summary>Keeping the package costs something, which removing it saves.</summary>
    Saving,
    /// <summary>Worth knowing; nothing is lost.</summary>
    Note,
}

/// <summary>The reason for a package's standing.</summary>
/// <param name="Code">Stable, for programs; docs/json.md lists them.</param>
/// <param name="Text">One or two sentences.</param>
/// <param name="Short">A few words for a table.</param>
/// <param name="Objects">Its subjects: file types, schemes, family names, account names, services.</param>
public sealed record Reason(string Code, ReasonKind Kind, string Text, string Short, ImmutableArray<string> Objects);

/// <param name="Reasons">The gravest first.</param>
public sealed record Verdict(PackageStanding Standing, ImmutableArray<Reason> Reasons)
{
    /// <summary>The loss that removing the package brings.</summary>
    public IEnumerable<Reason> Costs => Reasons.Where(r => r.Kind == ReasonKind.Cost);
}
