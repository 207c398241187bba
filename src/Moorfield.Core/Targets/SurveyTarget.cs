using Moorfield.Core.Reading;
using Moorfield.Core.Storage;
using Moorfield.Core.Transactions;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Targets;

/// <summary>A machine that was running when a survey was made of it: it can be read, and changed only by a hand-over.</summary>
public sealed class SurveyTarget : Target
{
    private readonly SurveyDocument _survey;
    private readonly SurveyTree _tree;

    private SurveyTarget(string path, SurveyDocument survey)
    {
        FullPath = Path.GetFullPath(path);
        _survey = survey;
        _tree = new SurveyTree(Name, FullPath, survey);
    }

    /// <summary>Opens a survey; null when the file is not one, of whatever version.</summary>
    /// <exception cref="MoorfieldException">It is one, but of another version, damaged, interrupted, or too long.</exception>
    public static SurveyTarget? TryOpen(string path)
    {
        using var file = RegularFile.OpenRead(path);
        if (file is null)
            return null;
        // Only what begins like JSON is read whole: a target may be a disk.
        Span<byte> start = stackalloc byte[64];
        start = start[..RandomAccess.Read(file.SafeFileHandle, start, 0)];
        if (start.TrimStart((ReadOnlySpan<byte>)[0xEF, 0xBB, 0xBF, 0xFF, 0xFE, 0, 32, 9, 10, 13]) is not [(byte)'{', ..])
            return null;
        if (file.Length > SurveyDocument.MaxBytes)
            return null; // too long for one; as an inventory it is refused with its length
        return TryOpen(path, FileContent.ReadAll(file.SafeFileHandle, SurveyDocument.MaxBytes));
    }

    /// <summary>The same of a content that was read before.</summary>
    internal static SurveyTarget? TryOpen(string path, byte[] content)
    {
        content = SurveyDocument.ToUtf8(content);
        if (!SurveyDocument.Is(content))
            return null;
        try
        {
            return new SurveyTarget(path, SurveyDocument.Read(content));
        }
        catch (InvalidDataException e)
        {
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{path} {e.Message}.", e);
        }
    }

    public override string Name => Path.GetFileName(FullPath);

    public override string FullPath { get; }

    public override string Kind => "survey";

    public override string Description => "a survey";

    /// <summary>When it was made; null when it does not say.</summary>
    public DateTimeOffset? Made => _survey.Made;

    /// <summary>The data that it could not see, a sentence each.</summary>
    public override ImmutableArray<string> Gaps => [.. (_survey.Gaps ?? []).Select(g => g.Text ?? "").Where(t => t.Length > 0)];

    public override ImmutableArray<TargetEdition> Editions => [];

    public override bool HasEditions => false;

    public override bool IsDocument => true;

    public override bool IsRunningMachine => true;

    public override ITreeProvider? Trees => null;

    protected override ImmutableArray<SystemSnapshot> ReadSystems(IReadOnlyList<int?> editions, IReadOnlyCollection<Guard> guards)
    {
        _tree.Parsed = Opened.Parsed;
        try
        {
            return [.. editions.Select(_ => SystemReader.Read(_tree, guards, Opened.Languages))];
        }
        catch (InvalidDataException e)
        {
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{Name} {e.Message}.", e);
        }
    }

    public override TargetIdentity Identify(SystemSnapshot? read = null)
    {
        var system = read ?? Read([null])[0];
        return new TargetIdentity(FullPath, system.Computer, system.MachineId, system.Product, system.Build);
    }

    public override TargetFingerprint Fingerprint(IReadOnlyCollection<SystemSnapshot> systems) => new([]);

    public override string ReadOnlyReason() =>
        $"{Name} is a survey of a running machine, which can only be read. 'moorfield hand-over' writes the scripts that change the machine. "
            + "Nothing was changed.";

    public override Outcome CarryOut(RunRequest request, RunContext context) => throw new MoorfieldException(RefusalReason.ReadOnly,
        ReadOnlyReason());

    protected override bool TryLock() => true;

    protected override void ClearParts()
    {
    }

    protected override void Dispose(bool disposing)
    {
    }
}
