using System.Collections.Immutable;
using System.Text.Json;
using System.Text.Json.Serialization;
using Moorfield.Core.Changes;
using Moorfield.Core.Volumes;

namespace Moorfield.Core.RestorePoints;

public enum RunKind
{
    Remove,
    Block,
    Unblock,
    Undo,
}

/// <summary>Which system a restore point belongs to.</summary>
/// <param name="Path">Where it was mounted.</param>
/// <param name="MachineId">The system's MachineGuid, which must be the same when it is undone.</param>
public sealed record TargetIdentity(string Path, string Computer, string MachineId, string Product, string Build);

/// <summary>A package that a run was about.</summary>
public sealed record ConcernedPackage(string Family, string DisplayName);

/// <summary>A file whose content was replaced whole, with both contents by SHA-256.</summary>
public sealed record ReplacedFile(string Path, string Before, string After, FileTime Accessed, FileTime Modified);

/// <summary>One run, recorded before its first change. Immutable once written; how far the run came stands in its journal.</summary>
/// <param name="Undoes">The point that this run undid; null for other kinds.</param>
/// <param name="Title">One line: what the run was to do.</param>
public sealed record RestorePoint(
    string Schema,
    int Number,
    RunKind Kind,
    int? Undoes,
    DateTimeOffset Created,
    string Title,
    string? Note,
    TargetIdentity Target,
    ImmutableArray<ConcernedPackage> Packages,
    ImmutableArray<ReplacedFile> Files,
    ImmutableArray<Change> Changes)
{
    public const string SchemaName = "moorfield.restore-point/1";
}

/// <summary>One line of a restore point's journal.</summary>
/// <param name="Step">started, done, failed or finished.</param>
public sealed record JournalLine(DateTimeOffset At, string Step, string? What = null, string? Message = null);

/// <summary>The file at a target's root while a run is under way.</summary>
internal sealed record RunMarker(int Point, string Vault, FileTime RootModified, FileTime RootAccessed)
{
    internal const string FileName = ".moorfield-run.json";
}

/// <summary>Options shared by all documents of the vault.</summary>
[JsonSourceGenerationOptions(
    PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, UseStringEnumConverter = true, WriteIndented = false,
    DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull, MaxDepth = 1200)]
[JsonSerializable(typeof(RestorePoint))]
[JsonSerializable(typeof(JournalLine))]
[JsonSerializable(typeof(RunMarker))]
internal sealed partial class VaultJson : JsonSerializerContext;
