using Moorfield.Core.Disks;
using Moorfield.Core.Transactions;
using Moorfield.Core.Trees;

namespace Moorfield.Core.Targets;

/// <summary>How a target is opened, read and changed.</summary>
public sealed record OpenOptions
{
    /// <summary>The defaults.</summary>
    public static OpenOptions Default { get; } = new();

    /// <summary>Number of the partition of a disk; null for the only one that holds a Windows.</summary>
    public int? Partition { get; init; }

    /// <summary>Folders outside of a virtual disk's own in which the files may lie that it names.</summary>
    public ImmutableArray<string> BackingIn { get; init; } = [];

    /// <summary>Keys to encrypted volumes; null for none.</summary>
    public VolumeKeys? Keys { get; init; }

    /// <summary>Languages in which names are wanted, the best first; null for those of each system. A document has its names already.</summary>
    public ImmutableArray<string>? Languages { get; init; }

    /// <summary>The machine's maker as a person or a brief names it, which images do not know; null to take what the system says.</summary>
    public string? Maker { get; init; }

    /// <summary>Names and descriptions for packages of documents that lack them.</summary>
    public PackageNames Names { get; init; } = PackageNames.None;

    /// <summary>True if a run first writes what transaction logs hold into the hives that it changes.</summary>
    public bool ReplaysLogs { get; init; }

    /// <summary>True if opening a disk recovers what an interrupted run left there.</summary>
    public bool Recovers { get; init; } = true;

    /// <summary>Parsed files that several surveys share; null for a target that is read alone.</summary>
    public ParsedContents? Parsed { get; init; }

    /// <summary>The interrupted run that a person named; null when none was named.</summary>
    public MarkedRun? RecoverBy { get; init; }
}
