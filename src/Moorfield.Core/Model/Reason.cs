namespace Moorfield.Core.Model;

/// <summary>What removing a package would mean.</summary>
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

/// <summary>What a reason speaks for.</summary>
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

/// <summary>Why a package stands as it does.</summary>
/// <param name="Code">Stable, for programs; docs/json.md lists them.</param>
/// <param name="Text">One or two sentences.</param>
/// <param name="Short">A few words for a table.</param>
/// <param name="Objects">What it is about: file types, schemes, family names, account names, services.</param>
public sealed record Reason(string Code, ReasonKind Kind, string Text, string Short, ImmutableArray<string> Objects);

/// <param name="Reasons">The gravest first.</param>
public sealed record Verdict(PackageStanding Standing, ImmutableArray<Reason> Reasons)
{
    /// <summary>What removing the package loses.</summary>
    public IEnumerable<Reason> Costs => Reasons.Where(r => r.Kind == ReasonKind.Cost);
}
