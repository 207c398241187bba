using Moorfield.Core.Disks;
using Moorfield.Core.Images;
using Moorfield.Core.Planning;
using Moorfield.Core.Reading;
using Moorfield.Core.Storage;
using Moorfield.Core.Transactions;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Targets;

/// <summary>One system of a target that has several.</summary>
/// <param name="Number">From 1.</param>
/// <param name="Name">As people know it.</param>
/// <param name="EditionId">The system's own name for the edition, such as Professional; empty when it is not known.</param>
public sealed record TargetEdition(int Number, string Name, string EditionId);

/// <summary>
/// What a command works on. Each kind opens something, names its systems and reads them; those that can be changed begin a transaction, the
/// others say why they cannot.
/// </summary>
public abstract class Target : IUndoTarget, IDisposable
{
    /// <summary>Name of the folder or file, for messages.</summary>
    public abstract string Name { get; }

    /// <summary>Full Linux path of the folder or file.</summary>
    public abstract string FullPath { get; }

    /// <summary>The path as a person typed it; the full path if nobody did.</summary>
    public string Given { get => _given ?? FullPath; private set => _given = value; }

    private string? _given;

    /// <summary>The options that a command with this target needs, with a leading space; empty when its path is enough.</summary>
    public virtual string Options => "";

    /// <summary>
    /// The kind in one word, as JSON documents have it: volume or image; that of a saved inventory is the kind that it was taken from.
    /// </summary>
    public abstract string Kind { get; }

    /// <summary>The kind of target, as in "This is a volume".</summary>
    public abstract string Description { get; }

    /// <summary>The systems of a target that has several, in their order; empty when it is one system itself.</summary>
    public abstract ImmutableArray<TargetEdition> Editions { get; }

    /// <summary>True if its systems are distinguished by numbers, even if there is only one.</summary>
    public virtual bool HasEditions => true;

    /// <summary>The file trees that it consists of; null when it has none, because it was saved earlier.</summary>
    public abstract ITreeProvider? Trees { get; }

    ITreeProvider IUndoTarget.Systems => Trees ?? throw new MoorfieldException(RefusalReason.ReadOnly, ReadOnlyReason()!);

    /// <summary>The image file with its systems; null when it is not one.</summary>
    public virtual ImageFile? Image => null;

    /// <summary>This target where only an image will do; null when it is not one.</summary>
    public virtual ImageTarget? AsImage => null;

    /// <summary>The volume that a run was interrupted on, with what its marker says; null when there is none.</summary>
    /// <exception cref="MoorfieldException">There is a marker, but it cannot be read or means nothing.</exception>
    public virtual InterruptedRun? FindInterruptedRun() => null;

    /// <summary>True if a run on it takes effect as a whole or not at all, so that none can be continued.</summary>
    public virtual bool ChangesAtOnce => true;

    /// <summary>A run that was interrupted on it and was put right when it was opened; null when there was none.</summary>
    public virtual RecoveredDisk? Recovered => null;

    /// <summary>True if it was read from a document, so that neither languages nor partitions can be chosen.</summary>
    public virtual bool IsDocument => false;

    /// <summary>True if it tells of a running machine, which only a hand-over changes.</summary>
    public virtual bool IsRunningMachine => false;

    /// <summary>The data that it could not see, a sentence each.</summary>
    public virtual ImmutableArray<string> Gaps => [];

    /// <summary>The word for what undo puts back, for messages.</summary>
    public virtual string SystemName => Name;

    /// <summary>Where its file system is; null when a restore point needs no such place.</summary>
    internal virtual TargetLocation? Location => null;

    /// <summary>Bytes that are left for files; null when a run takes all its room or none.</summary>
    internal virtual long? FreeBytes => null;

    /// <summary>True if contents that come from elsewhere are written straight into it, rather than kept in the vault first.</summary>
    internal virtual bool TakesContentsDirectly => false;

    /// <summary>How many shadow copies its volume has, which lose what is changed while Windows does not run.</summary>
    public int CountShadowCopies()
    {
        try
        {
            return HasEditions || Trees is not { } trees ? 0 : trees.With(null, ShadowCopies.Count);
        }
        catch (MoorfieldException)
        {
            return 0; // a mount may keep that folder from whoever is not root
        }
    }

    /// <summary>True if it is an encrypted volume, so that what is taken from it is kept encrypted.</summary>
    public virtual bool IsEncrypted => false;

    /// <summary>A request with what programs have in the accounts that are to lose them, as far as the target has their files.</summary>
    public RemovalRequest WithTraces(SystemSnapshot system, RemovalRequest request)
    {
        var theirs = request.Programs.SelectMany(p => p.Entries)
            .Where(e => e.Sid is { } sid && request.For.Sids.Contains(sid, StringComparer.OrdinalIgnoreCase)).ToList();
        return theirs.Count == 0 || Trees is not { } trees ? request
            : request with { ProgramTraces = trees.With(system.EditionNumber, tree => AccountPrograms.Read(tree, system, theirs)) };
    }

    /// <summary>Lets a vault open what was kept of this very volume by the volume's own key.</summary>
    public virtual void OpenWithKey(Vault vault)
    {
    }

    /// <summary>True if a path is inside of it.</summary>
    public virtual bool Contains(string path) => false;

    /// <summary>Keeps what a recorded state needs of the file that holds the systems.</summary>
    internal virtual StateContents BeginState(Vault vault) => new();

    /// <summary>Finds out whether runs that were interrupted took effect, where only the target itself can tell.</summary>
    public virtual void RecoverRuns(Vault vault)
    {
    }

    /// <summary>
    /// Opens a survey or a saved inventory; a disk; a folder as a volume, or as a medium that was copied; a WIM or ESD file, or an ISO with one,
    /// as an image.
    /// </summary>
    /// <exception cref="MoorfieldException">None of these, or it cannot be read.</exception>
    public static Target Open(string path, WriteInterceptor interceptor, OpenOptions? options = null)
    {
        var target = Find(path, interceptor, options ?? OpenOptions.Default);
        target.Opened = options ?? OpenOptions.Default;
        target.Given = path;
        return target;
    }

    /// <summary>Opens a survey or a saved inventory that was kept.</summary>
    /// <param name="path">Where it was.</param>
    internal static Target OpenDocument(string path, byte[] content, OpenOptions options)
    {
        Target target = SurveyTarget.TryOpen(path, content) ?? (Target?)SavedInventory.TryOpen(path, new MemoryStream(content, writable: false))
            ?? throw new MoorfieldException(ErrorKind.InvalidUsage, $"{path} is neither a survey nor a saved inventory.");
        (target.Opened, target.Given) = (options, path);
        return target;
    }

    private static Target Find(string path, WriteInterceptor interceptor, OpenOptions options) =>
        SurveyTarget.TryOpen(path) is { } survey ? survey
        : SavedInventory.TryOpen(path) is { } saved ? saved
        : DiskFile.Is(path) ? DiskTarget.OpenDisk(path, interceptor, options)
        : options.Partition is not null ? throw new MoorfieldException(ErrorKind.InvalidUsage,
            $"{path} is not a disk with partitions. Omit --partition.")
        : File.Exists(path) ? new ImageTarget(ImageFile.Open(path, interceptor))
        : MediaImage.InFolder(path) is { } image ? new ImageTarget(ImageFile.Open(image, interceptor))
        : new VolumeTarget(WindowsVolume.Open(path, interceptor));

    /// <summary>Takes the machine's maker from a brief that was read after it was opened; null for what the system says.</summary>
    public void NameMaker(string? maker) => Opened = Opened with { Maker = maker };

    /// <summary>How it was opened.</summary>
    public OpenOptions Opened { get; internal set; } = OpenOptions.Default;

    /// <summary>The editions that a person means: by number, or by name in any case; all when none is named. [null] for a single system.</summary>
    /// <exception cref="MoorfieldException">No such edition, or a name that several have.</exception>
    public ImmutableArray<int?> SelectEditions(IReadOnlyCollection<string> words)
    {
        if (!HasEditions)
        {
            return words.Count == 0 ? [null]
                : throw new MoorfieldException(ErrorKind.InvalidUsage, $"{Name} is {Description}, which has no editions. Omit --edition.");
        }
        if (Editions.IsEmpty)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{Name} holds no edition.");
        return words.Count == 0
            ? [.. Editions.Select(e => (int?)e.Number)]
            : [.. words.Select(SelectEditions).Distinct().Order()];
    }

    private int? SelectEditions(string word)
    {
        var fitting = Editions.Where(e => e.Name.Equals(word, StringComparison.OrdinalIgnoreCase)).ToList();
        if (fitting.Count == 0 && int.TryParse(word, out int number) && Editions.Any(e => e.Number == number))
            return number;
        return fitting.Count switch
        {
            1 => fitting[0].Number,
            0 => throw new MoorfieldException(ErrorKind.InvalidUsage, $"{Name} has no edition '{word}'. It has: {List()}."),
            _ => throw new MoorfieldException(
                ErrorKind.InvalidUsage,
                $"'{word}' is the name of several editions of {Name}. Give a number: {string.Join(" or ", fitting.Select(e => e.Number))}."),
        };
    }

    /// <summary>"1 (Counter Home), 2 (Counter Pro)".</summary>
    public string List() => string.Join(", ", Editions.Select(e => $"{e.Number} ({e.Name})"));

    /// <summary>Reads systems.</summary>
    /// <param name="editions">As <see cref="SelectEditions(IReadOnlyCollection{string})"/> gives them.</param>
    /// <param name="guards">Whose values are looked up as well; none when they do not matter.</param>
    /// <exception cref="MoorfieldException">No Windows there, or it cannot be read.</exception>
    public ImmutableArray<SystemSnapshot> Read(IReadOnlyList<int?> editions, IReadOnlyCollection<Guard> guards)
    {
        var systems = ReadSystems(editions, guards);
        if (IsDocument)
            systems = [.. systems.Select(Opened.Names.PutInto)];
        return Opened.Maker is { } maker ? [.. systems.Select(s => Model.Maker.Name(s, maker))] : systems;
    }

    /// <summary>Reads systems as they say themselves.</summary>
    protected abstract ImmutableArray<SystemSnapshot> ReadSystems(IReadOnlyList<int?> editions, IReadOnlyCollection<Guard> guards);

    /// <summary>Reads systems without looking up guards.</summary>
    /// <exception cref="MoorfieldException">No Windows there, or it cannot be read.</exception>
    public ImmutableArray<SystemSnapshot> Read(IReadOnlyList<int?> editions) => Read(editions, []);

    /// <summary>Bytes in all files below a path of one system; null when that is not known.</summary>
    public long? Measure(int? edition, WindowsPath path) => Trees?.With(edition, tree => tree.TreeBytes(path));

    /// <summary>The identity in a restore point.</summary>
    /// <param name="read">One of its systems, to be read if it is null.</param>
    /// <exception cref="MoorfieldException">It has to be read for this, and cannot be.</exception>
    public abstract TargetIdentity Identify(SystemSnapshot? read = null);

    /// <summary>Tells whether the files that a run would write were touched between two moments, without reading them.</summary>
    /// <param name="systems">Whose files count.</param>
    public abstract TargetFingerprint Fingerprint(IReadOnlyCollection<SystemSnapshot> systems);

    /// <summary>Why it cannot be changed now, as a full sentence; null when it can.</summary>
    public abstract string? ReadOnlyReason();

    /// <summary>The run on it that was interrupted; null when there is not one, or none can be.</summary>
    /// <exception cref="MoorfieldException">There is a mark of one, but it cannot be read or means nothing.</exception>
    public virtual string? DescribeInterruption() => null;

    /// <summary>Makes sure that it may be changed.</summary>
    /// <param name="afterInterruption">An earlier run may have been interrupted there: this one puts it right.</param>
    /// <exception cref="MoorfieldException">Not of a kind that is changed, hibernated, or an earlier run was interrupted: refused.</exception>
    public void CheckChangeable(bool afterInterruption = false)
    {
        if (ReadOnlyReason() is { } why)
            throw new MoorfieldException(RefusalReason.ReadOnly, why);
        if (!afterInterruption)
            CheckNotInterrupted();
    }

    /// <exception cref="MoorfieldException">An earlier run was interrupted on it: refused.</exception>
    public void CheckNotInterrupted()
    {
        if (DescribeInterruption() is { } interrupted)
            throw new MoorfieldException(RefusalReason.Interrupted, interrupted);
    }

    /// <summary>Makes sure that no other run changes it, now and until it is closed.</summary>
    /// <exception cref="MoorfieldException">One does.</exception>
    public void CheckNotInUse()
    {
        if (!TryLock())
            throw new MoorfieldException(RefusalReason.InUse, $"{Name} is being changed by another run of moorfield. Wait for it to end.");
    }

    /// <summary>Takes the target for this run, and takes away what a run that was interrupted was writing.</summary>
    /// <param name="afterInterruption">An earlier run may have been interrupted there: this one puts it right.</param>
    /// <exception cref="MoorfieldException">Another run has it, or an earlier one was interrupted.</exception>
    public void AcquireForChange(bool afterInterruption = false)
    {
        if (Trees is null)
            throw new MoorfieldException(RefusalReason.ReadOnly, ReadOnlyReason()!);
        CheckNotInUse();
        Reload();
        if (!afterInterruption)
            CheckNotInterrupted();
        ClearParts();
    }

    /// <summary>Opens the files that changes are made to only once before they are written and once afterwards, where files are opened.</summary>
    internal virtual IDisposable? OpenOnce(IEnumerable<Change> changes) => null;

    /// <summary>Carries a run out.</summary>
    /// <exception cref="MoorfieldException">Nothing was changed, or, when the message says so, the run was interrupted.</exception>
    public abstract Outcome CarryOut(RunRequest request, RunContext context);

    /// <summary>Takes the target for this run; false when another run has it.</summary>
    protected abstract bool TryLock();

    /// <summary>Takes away what a run that was interrupted was writing.</summary>
    protected abstract void ClearParts();

    /// <summary>Looks again at what another run may have changed before this one took the target.</summary>
    protected virtual void Reload()
    {
    }

    public void Dispose()
    {
        Dispose(disposing: true);
        GC.SuppressFinalize(this);
    }

    /// <summary>Closes what is open.</summary>
    /// <param name="disposing">False in a finalizer.</param>
    protected abstract void Dispose(bool disposing);
}
