using System.Collections.Concurrent;
using System.Diagnostics.CodeAnalysis;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Trees;
using Moorfield.Formats.Native;
using ZstdSharp;

namespace Moorfield.Core.Vaults;

/*
   A vault is a folder:
       blobs/ab/abcdef….zst     contents, each by the SHA-256 of what it holds, compressed with Zstandard
       blobs/ab/abcdef….sealed  the same of encrypted volumes, encrypted, by an HMAC of the SHA-256
       points/000001.json       one document a restore point, written whole before the run's first change
       points/000001.head       what the document is about, without the before-images: all that lists need
       points/000001.journal    one JSON line for each step of the run, flushed as it is made; and for each note and pin since
       points/000001.report     the run's report for people, where one was wanted, compressed, and encrypted where the document is
       points/highest           the highest number of a point that was deleted
       lock, points/lock        empty, to be locked
   A document never changes once it is written. Its blobs are on the disk before it is, and its head as well. A head counts only as long as
   its document has the length that it gives; without one the document is read. Whoever has the vault open shares its lock; points and contents
   are deleted by one who has it alone. The other lock is for the moment in which something is written among the points.
*/

/// <summary>The folder that holds restore points.</summary>
public sealed partial class Vault : IContentStore, IDisposable
{
    private const int CompressionLevel = 1;

    // A document of 200,000 entries has about 80 MB.
    private const long MaxDocument = 1L << 30;
    private const string Blobs = "blobs";
    private const string Points = "points";
    private const string HighestName = "highest";
    private const string PartPrefix = "part-";
    private const int PartDigits = 32;
    private readonly Folder _root;
    private readonly FileLock? _lock;
    private readonly WriteInterceptor _interceptor;
    private readonly Lazy<Compressor> _compressor;
    private readonly Folder _blobs;
    private readonly Folder _points;

    // A document never changes, and takes long to read.
    private readonly ConcurrentDictionary<int, RestorePoint> _read = new();

    private Vault(string path, Folder root, Folder blobs, Folder points, WriteInterceptor interceptor)
    {
        FullPath = path;
        _root = root;
        _lock = FileLock.Share(root);
        _interceptor = interceptor;
        _blobs = blobs;
        _points = points;
        // Making one takes longer than compressing a small file.
        _compressor = new Lazy<Compressor>(() => new Compressor(CompressionLevel));
    }

    /// <summary>Full Linux path of the folder.</summary>
    public string FullPath { get; }

    /// <summary>
    /// The vault that a person chose, or the one by the environment and the settings: MOORFIELD_VAULT, config.yaml, XDG_STATE_HOME, the home
    /// folder.
    /// </summary>
    /// <exception cref="MoorfieldException">It is a file.</exception>
    public static string ChoosePath(string? chosen)
    {
        string path = Path.GetFullPath(chosen ?? NotEmpty("MOORFIELD_VAULT") ?? Settings.Current.Vault ?? Path.Combine(StateFolder, "vault"));
        return !File.Exists(path) ? path : throw new MoorfieldException(ErrorKind.InvalidUsage,
            $"{path} is a file, not a vault. Name a folder with --vault.");
    }

    /// <summary>The option by which a command finds a vault, with a leading space; empty for the usual one.</summary>
    public static string Option(string path) => path == ChoosePath(null) ? "" : $" --vault {TextFormat.Quoted(path)}";

    /// <summary>Where a person's own state lies that should outlive restarts. Source: XDG base directory specification.</summary>
    public static string StateFolder => Path.Combine(
        NotEmpty("XDG_STATE_HOME")
        ?? Path.Combine(Environment.GetFolderPath(Environment.SpecialFolder.UserProfile, Environment.SpecialFolderOption.DoNotVerify),
        ".local", "state"), "moorfield");

    private static string? NotEmpty(string variable) => Environment.GetEnvironmentVariable(variable) is { Length: > 0 } value ? value : null;

    /// <summary>Opens a vault for writing; it is made when it is missing.</summary>
    /// <exception cref="MoorfieldException">It cannot be made or written.</exception>
    public static Vault Open(string path, WriteInterceptor interceptor)
    {
        try
        {
            Directory.CreateDirectory(path, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
            var root = Folder.Open(path, interceptor);
            var vault = new Vault(path, root, Subfolder(root, Blobs), Subfolder(root, Points), interceptor);
            vault.ClearParts();
            return vault;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or MoorfieldException)
        {
            throw new MoorfieldException(ErrorKind.Failed,
            $"The vault {path} cannot be used: {e.Message} Choose another with --vault. Nothing was changed.", e);
        }
    }

    /// <summary>Opens a vault that is there, and makes nothing; null when there is none.</summary>
    public static Vault? OpenExisting(string path, WriteInterceptor? interceptor = null)
    {
        Folder? root = null;
        Folder? blobs = null;
        Folder? points = null;
        interceptor ??= new WriteInterceptor();
        try
        {
            root = Directory.Exists(path) ? Folder.Open(path, interceptor) : null;
            blobs = root?.OpenFolder(Blobs);
            points = root?.OpenFolder(Points);
            if (blobs is not null && points is not null)
                return new Vault(path, root!, blobs, points, interceptor);
        }
        catch (MoorfieldException e)
        {
            blobs?.Dispose();
            root?.Dispose();
            throw new MoorfieldException(ErrorKind.Failed, $"The vault {path} cannot be used: {e.Message}", e);
        }
        points?.Dispose();
        blobs?.Dispose();
        root?.Dispose();
        return null;
    }

    /// <summary>Deletes what interrupted runs were writing. Other runs may be at work on parts of their own, which they have locked.</summary>
    private void ClearParts()
    {
        foreach (string name in _blobs.Names().Where(IsPart))
        {
            using var part = _blobs.OpenFile(name, forWriting: true);
            if (part is not null && LibC.Lock(part, LibC.LockExclusive | LibC.LockNonBlocking) == 0)
                _blobs.Delete(name, mayBeGone: true);
        }
    }

    /// <summary>True if a name is that of a content which is being written, as Moorfield gives it.</summary>
    private static bool IsPart(string name) => name.Length == PartPrefix.Length + PartDigits
        && name.StartsWith(PartPrefix, StringComparison.Ordinal) && name[PartPrefix.Length..].All(char.IsAsciiHexDigitLower);

    private static Folder Subfolder(Folder parent, string name)
    {
        if (parent.Stat(name) is null)
        {
            try
            {
                parent.MakeFolder(name);
            }
            catch (MoorfieldException) when (parent.Stat(name) is not null)
            {
                // another process makes the same vault at this moment
            }
        }
        return parent.OpenFolder(name) ?? throw new MoorfieldException(ErrorKind.Failed, $"'{name}' in it is not a folder.");
    }

    // ---- points

    /// <summary>Numbers of all restore points, ascending.</summary>
    public IReadOnlyList<int> Numbers()
    {
        _points.Refresh();
        return [.. _points.Names().Where(n => n.EndsWith(".json", StringComparison.Ordinal))
            .Select(n => int.TryParse(n[..^5], out int number) && n == DocumentName(number) ? number : 0)
            .Where(n => n is > 0 and < int.MaxValue).Order()];
    }

    /// <summary>
    /// Writes a restore point, with everything it refers to, to the disk. Its number is given here. It is read back from its own bytes before
    /// anything of it is written.
    /// </summary>
    /// <exception cref="MoorfieldException">It could not be read back (refused), or not be written.</exception>
    internal RestorePoint Begin(RestorePoint point)
    {
        _root.FlushFileSystem();
        // Runs on other targets may use this vault at the same time.
        using var gate = FileLock.Take(_points);
        var numbered = point with { Number = Math.Max(Numbers().LastOrDefault(), Highest()) + 1 };
        DeleteAccompanying(numbered.Number); // of a point that was taken back as the power went
        var stored = Document(numbered);
        numbered = numbered with { IsSealed = stored.Seal is not null };
        byte[] document = JsonSerializer.SerializeToUtf8Bytes(stored, VaultJson.Default.StoredPoint);
        CheckReadable(document, numbered.Number);
        byte[] head = JsonSerializer.SerializeToUtf8Bytes(PointDocuments.Of(numbered.Head, document.Length), VaultJson.Default.StoredHead);
        try
        {
            // Not flushed: what a power cut leaves of it is no head, and the document tells.
            AtomicFile.WriteUnflushed(_points, HeadName(numbered.Number), head, Folder.PrivateMode);
            AtomicFile.Write(_points, DocumentName(numbered.Number), document, Folder.PrivateMode);
        }
        catch (MoorfieldException) when (Has(numbered.Number))
        {
            Abandon(numbered.Number);
            throw;
        }
        return numbered;
    }

    private void CheckReadable(byte[] document, int number)
    {
        try
        {
            _ = Checked(JsonSerializer.Deserialize(document, VaultJson.Default.StoredPoint), number);
        }
        catch (Exception e) when (e is MoorfieldException || IsDamage(e))
        {
            throw new MoorfieldException(RefusalReason.CannotRecord, "What would be recorded could not be read back, so the run could not be undone: "
                + $"{e.Message.TrimEnd('.')}. Nothing was changed. Please report it.", e);
        }
    }

    // ---- upkeep

    /// <summary>Takes the vault alone for as long as it is open; false when another run has it open.</summary>
    internal bool TryAcquireExclusively() => _lock?.TryTakeAlone()
        ?? throw new MoorfieldException(ErrorKind.Failed, $"The vault {FullPath} cannot be locked. Nothing was deleted.");

    /// <summary>The highest number of a point that was deleted: numbers are not given twice. 0 for none.</summary>
    private int Highest()
    {
        using var file = _points.OpenFile(HighestName);
        return file is not null && int.TryParse(Encoding.ASCII.GetString(FileContent.ReadAll(file, 16)), out int number) && number < int.MaxValue - 1
            ? Math.Max(0, number) : 0;
    }

    /// <summary>Deletes points: their documents first, so that one that is interrupted is no point any more. Contents stay.</summary>
    internal void Delete(IEnumerable<int> numbers)
    {
        int highest = Numbers().LastOrDefault();
        if (highest > Highest())
            AtomicFile.Write(_points, HighestName, Encoding.ASCII.GetBytes(highest.ToString(CultureInfo.InvariantCulture)), Folder.PrivateMode);
        foreach (int number in numbers)
        {
            _read.TryRemove(number, out _);
            _points.Delete(DocumentName(number));
            DeleteAccompanying(number);
        }
        _points.Flush();
    }

    /// <summary>Files that go with a document which is gone, and parts of documents.</summary>
    internal IEnumerable<string> StrayNames()
    {
        var numbers = Numbers().ToHashSet();
        return _points.Names().Where(n => n == AtomicFile.PartName || (int.TryParse(Path.GetFileNameWithoutExtension(n), out int number)
            && Accompanying(number).Contains(n) && !numbers.Contains(number)));
    }

    internal void DeleteStray(string name) => _points.Delete(name);

    private void DeleteAccompanying(int number)
    {
        foreach (string name in Accompanying(number))
        {
            if (_points.Stat(name) is not null)
                _points.Delete(name);
        }
    }

    /// <summary>Names of the files that go with a document.</summary>
    private static string[] Accompanying(int number) => [HeadName(number), JournalName(number), ReportName(number)];

    /// <summary>Takes back a restore point whose run never began.</summary>
    internal void Abandon(int number)
    {
        // The journal first: without one the run never began, even if the power goes now.
        DeleteAccompanying(number);
        _read.TryRemove(number, out _);
        _points.Delete(DocumentName(number));
        _points.Flush();
    }

    /// <summary>True if there is a point of that number.</summary>
    internal bool Has(int number) => _points.Stat(DocumentName(number)) is not null;

    /// <exception cref="MoorfieldException">There is no such point, or its document is damaged.</exception>
    public RestorePoint Read(int number) => _read.GetOrAdd(number, Load);

    /// <summary>A point that may hold further contents: null when it is damaged, or was deleted meanwhile.</summary>
    internal RestorePoint? TryRead(int number)
    {
        try
        {
            return Read(number);
        }
        catch (MoorfieldException)
        {
            return null;
        }
    }

    /// <summary>The fault of a point's document; null when it is sound. The document is not kept in memory.</summary>
    internal string? Fault(int number)
    {
        try
        {
            _ = Load(number);
            return null;
        }
        catch (LockedPointException)
        {
            return null; // as far as that shows without its key
        }
        catch (MoorfieldException e)
        {
            return e.Message;
        }
    }

    private RestorePoint Load(int number) => WrapErrors(number, () => Checked(Outline(number), number));

    /// <summary>The document of a point as it is on the disk: what is encrypted stays so.</summary>
    private StoredPoint Outline(int number)
    {
        using var file = _points.OpenFile(DocumentName(number))
            ?? throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"The vault {FullPath} has no restore point {number}. 'moorfield restore-point list' lists them.");
        if (RandomAccess.GetLength(file) > MaxDocument)
            throw new MoorfieldException(ErrorKind.Failed, $"Restore point {number} in {FullPath} is longer than any that Moorfield writes.");
        return Parse(file, VaultJson.Default.StoredPoint, number) is { } stored && (stored.Seal is null || PointCheck.IsSound(stored.Seal)) ? stored
            : throw new MoorfieldException(ErrorKind.Failed, $"Restore point {number} in {FullPath} is damaged or of a newer Moorfield.");
    }

    /// <exception cref="MoorfieldException">It is not that restore point, or means nothing.</exception>
    private RestorePoint Checked(StoredPoint? stored, int number)
    {
        if (!IsKnown(stored, number))
            throw new MoorfieldException(ErrorKind.Failed, $"Restore point {number} in {FullPath} is damaged or of a newer Moorfield.");
        var point = PointDocuments.Read(stored.Seal is { } seal ? Unsealed(stored, seal) : stored) with { IsSealed = stored.Seal is not null };
        return PointCheck.Fault(point) is { } fault
            ? throw new MoorfieldException(ErrorKind.Failed, $"Restore point {number} in {FullPath} is damaged: {fault}.")
            : point;
    }

    private static bool IsKnown([NotNullWhen(true)] StoredPoint? stored, int number) => stored?.Number == number
        && stored.Schema == (stored.Seal is null ? PointDocuments.Schema : PointDocuments.SealedSchema);

    /// <summary>The head of a point. Its before-images are not read, if it has a head.</summary>
    /// <exception cref="MoorfieldException">There is no such point, or its document is damaged.</exception>
    public PointHead Head(int number)
    {
        if (_read.TryGetValue(number, out var known))
            return known.Head;
        try
        {
            using var file = _points.OpenFile(HeadName(number));
            if (file is not null && RandomAccess.GetLength(file) <= MaxDocument && Parse(file, VaultJson.Default.StoredHead, number) is { } stored
                && stored.Schema == PointDocuments.HeadSchema && stored.Head.Number == number
                && stored.DocumentBytes == _points.Stat(DocumentName(number))?.Size
                && PointDocuments.Read(stored.Head) is var head && PointCheck.Fault(head) is null)
                return head;
        }
        catch (Exception e) when (e is MoorfieldException || IsDamage(e))
        {
            // the document tells
        }
        return WrapErrors(number, () => Outline(number) is { Seal: { } seal } outline && IsKnown(outline, number)
            && PointDocuments.ReadHead(outline, seal) is var clear && PointCheck.Fault(clear) is null ? clear : Read(number).Head);
    }

    private T? Parse<T>(SafeFileHandle file, JsonTypeInfo<T> type, int number) where T : class => WrapErrors(number, () =>
    {
        using var stream = new FileStream(file, FileAccess.Read);
        return JsonSerializer.Deserialize(stream, type);
    });

    private T WrapErrors<T>(int number, Func<T> read)
    {
        try
        {
            return read();
        }
        catch (Exception e) when (IsDamage(e))
        {
            throw new MoorfieldException(ErrorKind.Failed, $"Restore point {number} in {FullPath} is damaged: {e.Message}", e);
        }
    }

    /// <summary>True if an exception is what reading a document that means nothing ends with.</summary>
    private static bool IsDamage(Exception e) =>
        e is JsonException or NotSupportedException or FormatException or InvalidOperationException or ArgumentException or InvalidDataException
            or EndOfStreamException or ZstdException;

    private static string DocumentName(int number) => $"{number:D6}.json";

    private static string HeadName(int number) => $"{number:D6}.head";

    private static string JournalName(int number) => $"{number:D6}.journal";

    public void Dispose()
    {
        if (_compressor.IsValueCreated)
            _compressor.Value.Dispose();
        ForgetKeys();
        _lock?.Dispose();
        _points.Dispose();
        _blobs.Dispose();
        _root.Dispose();
    }
}
