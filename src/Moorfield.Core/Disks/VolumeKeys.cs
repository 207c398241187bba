using System.Security.Cryptography;
using Moorfield.Core.Storage;
using Moorfield.Formats.Disks;
using Moorfield.Formats.Disks.BitLocker;
using Moorfield.Formats.Native;

namespace Moorfield.Core.Disks;

/// <summary>
/// The keys to encrypted volumes that a person gave. They are read when the first volume needs one and cleared when this is disposed; from
/// then on no core dump is written. Each volume is unlocked once. Not for use from several threads.
/// </summary>
/// <param name="places">Files or folders; "-" for standard input. Asked once, when the first volume needs a key.</param>
/// <param name="input">Opens standard input.</param>
/// <param name="ask">Asks for a recovery key or a password, by a prompt, when no place was named; null when there is nobody to ask. It gives
/// UTF-8, empty for no answer.</param>
public sealed class VolumeKeys(Func<IReadOnlyList<string>> places, Func<Stream>? input = null, Func<string, byte[]>? ask = null) : IDisposable
{
    private const string StandardInput = "-";
    private const int MaxFiles = 20_000, MaxQuestions = 3;

    private readonly Dictionary<string, BitLockerVolume> _opened = [];
    private readonly Lazy<IReadOnlyList<string>> _places = new(places);
    private List<KeyFile>? _files;

    /// <summary>The options that name the same places in another call.</summary>
    public string Options => string.Concat(_places.Value.Where(p => p != StandardInput).Select(p => $" --bitlocker-key {TextFormat.Quoted(p)}"));

    /// <summary>True if a person can be asked for a key.</summary>
    internal bool MayAsk => ask is not null && _places.Value.Count == 0;

    /// <summary>Opens an encrypted volume: by itself where its protection is suspended, else by a key that was given.</summary>
    /// <param name="asks">True if a person may be asked.</param>
    /// <exception cref="MoorfieldException">No key opens it, it is damaged, or is encrypted in a way that is not supported.</exception>
    internal BitLockerVolume Unlock(VolumeName which, BlockSource volume, bool asks)
    {
        try
        {
            var metadata = BitLockerMetadata.Read(volume);
            string id = $"{metadata.VolumeId} {Convert.ToHexString(metadata.VolumeKey.AsSpan())}";
            if (_opened.TryGetValue(id, out var known))
                return known;
            LibC.ForbidDumps();
            return _opened[id] = BitLockerVolume.UnlockSuspended(metadata) ?? UnlockByFile(which, metadata, volume)
                ?? (asks ? UnlockByQuestion(which, metadata, volume) : null) ?? throw Refusal(which, metadata);
        }
        catch (BitLockerUnsupportedException e)
        {
            throw new MoorfieldException(RefusalReason.Unsupported, $"{which.Name} {e.Message}.", e);
        }
        catch (InvalidDataException e)
        {
            throw FormatErrors.Damaged(which.Name, e);
        }
    }

    private BitLockerVolume? UnlockByFile(VolumeName which, BitLockerMetadata metadata, BlockSource volume)
    {
        // A folder may hold the keys of a thousand machines, and each try takes a second.
        var files = Files().Where(f => !f.IsInFolder || f.Content.Ids.IsEmpty || f.IsFor(metadata)).OrderBy(f => f.IsFor(metadata) ? 0 : 1).ToList();
        if (files.Find(f => f.Content.MistypedGroup > 0 && (!f.IsInFolder || f.IsFor(metadata))) is { } mistyped)
            throw Mistyped(mistyped);
        foreach (var key in files.SelectMany(f => f.Content.Keys))
        {
            if (BitLockerVolume.Unlock(metadata, volume, key) is { } opened)
                return opened;
        }
        return null;
    }

    private BitLockerVolume? UnlockByQuestion(VolumeName which, BitLockerMetadata metadata, BlockSource volume)
    {
        if (!MayAsk || !metadata.Protectors.Any(p => p.Kind is ProtectorKind.RecoveryKey or ProtectorKind.Password))
            return null;
        string what = metadata.Protectors.Any(p => p.Kind == ProtectorKind.Password) ? "Password or recovery key" : "Recovery key";
        string id = Ids(metadata, ProtectorKind.RecoveryKey) is { Length: > 0 } ids ? $" (key ID {ids})" : "", wrong = "";
        for (int i = 0; i < MaxQuestions; i++)
        {
            byte[] answer = ask!($"{wrong}{what} of {which.Full}{id}: ");
            try
            {
                if (answer.Length == 0)
                    return null;
                using var content = BitLockerKeyFile.Read(answer);
                foreach (var key in content.Keys)
                {
                    if (BitLockerVolume.Unlock(metadata, volume, key) is { } opened)
                        return opened;
                }
                wrong = content.MistypedGroup > 0 ? $"Group {content.MistypedGroup} is mistyped. "
                    : content.IncompleteGroups > 0 ? $"That has {content.IncompleteGroups} groups of digits instead of 8. "
                    : "That does not open it. ";
            }
            finally
            {
                CryptographicOperations.ZeroMemory(answer);
            }
        }
        throw new MoorfieldException(RefusalReason.Encrypted, $"None of the keys that were typed opens {which.Short}.");
    }

    private List<KeyFile> Files()
    {
        if (_files is not null)
            return _files;
        // Nothing is kept when one cannot be read: the next volume must not be tried with half of the keys.
        var files = new List<KeyFile>();
        try
        {
            foreach (string place in _places.Value)
            {
                if (place == StandardInput && input is not null)
                {
                    using var stream = input();
                    Add(files, "standard input", stream, isInFolder: false);
                }
                else if (Directory.Exists(place))
                {
                    AddFolder(files, place);
                }
                else
                {
                    using var file = RegularFile.OpenNamed(place);
                    Add(files, place, file, isInFolder: false);
                }
            }
            return _files = files;
        }
        catch
        {
            files.ForEach(f => f.Content.Dispose());
            throw;
        }
    }

    private static void AddFolder(List<KeyFile> files, string folder)
    {
        try
        {
            foreach (string path in Directory.EnumerateFiles(folder).Order(StringComparer.Ordinal).Take(MaxFiles))
            {
                using var file = RegularFile.OpenRead(path);
                if (file is { Length: <= BitLockerKeyFile.MaxBytes })
                    Add(files, path, file, isInFolder: true);
            }
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new MoorfieldException(ErrorKind.Failed, $"{folder} cannot be read: {e.Message}", e);
        }
    }

    private static void Add(List<KeyFile> files, string name, Stream stream, bool isInFolder)
    {
        byte[] buffer = new byte[BitLockerKeyFile.MaxBytes + 1];
        try
        {
            int length = stream.ReadAtLeast(buffer, buffer.Length, throwOnEndOfStream: false);
            if (length > BitLockerKeyFile.MaxBytes)
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"{name} is longer than a BitLocker key can be.");
            var file = new KeyFile(name, BitLockerKeyFile.Read(buffer.AsSpan(0, length)), isInFolder);
            // In a folder any line of text would be a password.
            if (isInFolder && file.Content.MistypedGroup == 0
                && file.Content.Keys is not [{ Kind: BitLockerKeyKind.RecoveryKey or BitLockerKeyKind.StartupKey }, ..])
                file.Content.Dispose();
            else if (file.Content is { MistypedGroup: 0, Keys.IsEmpty: true })
                throw NoKey(file);
            else
                files.Add(file);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new MoorfieldException(ErrorKind.Failed, $"{name} cannot be read: {e.Message}", e);
        }
        finally
        {
            CryptographicOperations.ZeroMemory(buffer);
        }
    }

    private static MoorfieldException NoKey(KeyFile file) => new(ErrorKind.InvalidUsage, file.Content.IncompleteGroups is > 0 and var groups
        ? $"The recovery key in {file.Name} has {groups} groups of digits. A whole one has 8."
        : $"{file.Name} holds no BitLocker key: neither a recovery key of 8 groups of 6 digits, nor a startup key (.BEK), nor a single line.");

    private static MoorfieldException Mistyped(KeyFile file) => new(ErrorKind.InvalidUsage,
        $"Group {file.Content.MistypedGroup} of the recovery key in {file.Name} is mistyped: it is not a multiple of 11.");

    /// <summary>Says why a volume stays locked.</summary>
    private MoorfieldException Refusal(VolumeName which, BitLockerMetadata metadata)
    {
        string recovery = Ids(metadata, ProtectorKind.RecoveryKey), startup = Ids(metadata, ProtectorKind.StartupKey);
        if (_places.Value.Count == 0)
            return new MoorfieldException(RefusalReason.Encrypted, $"{which.Name} is encrypted by BitLocker. {Advice(metadata, recovery)}");
        string itsId = recovery.Length > 0 ? $"its key ID is {recovery}" : "it has no recovery key";
        var tried = Files();
        string message = tried is [{ IsInFolder: false } only]
            ? only.Content.Keys[0].Kind switch
            {
                BitLockerKeyKind.RecoveryKey => $"The recovery key in {only.Name} is not one of {which.Whose}: {itsId}.",
                BitLockerKeyKind.StartupKey => $"The startup key in {only.Name} is not one of {which.Whose}: "
                    + $"{(startup.Length > 0 ? $"its key ID is {startup}" : "it has no startup key")}.",
                BitLockerKeyKind.Password => $"The password in {only.Name} does not open {which.Short}"
                    + $"{(metadata.Protectors.Any(p => p.Kind == ProtectorKind.Password) ? "" : ", which has no password")}.",
                _ => $"The volume key in {only.Name} does not open {which.Short}.",
            }
            : $"{(_places.Value is [var place] ? place : "What was given with --bitlocker-key")} has no key that opens {which.Short}: {itsId}.";
        return new MoorfieldException(RefusalReason.Encrypted, message);
    }

    private static string Advice(BitLockerMetadata metadata, string recovery)
    {
        const string Make = "Make a recovery key on that machine ('manage-bde -protectors -add C: -RecoveryPassword'), and give its file to "
            + "--bitlocker-key";
        var kinds = metadata.Protectors.Select(p => p.Kind).ToList();
        string other = kinds.Contains(ProtectorKind.Password) ? "password" : kinds.Contains(ProtectorKind.StartupKey) ? "startup key" : "";
        return recovery.Length > 0 ? $"Give --bitlocker-key a file with its recovery key (key ID {recovery})"
                + $"{(other.Length > 0 ? $" or its {other}" : "")}."
            : other.Length > 0 ? $"Give --bitlocker-key a file with its {other}."
            : kinds.Exists(k => k.HasFlag(ProtectorKind.Tpm)) ? $"Only the TPM of its machine opens it. {Make}."
            : kinds.Contains(ProtectorKind.Certificate) ? $"Only a certificate opens it, which is not supported. {Make}."
            : $"None of its keys is of a kind that is supported. {Make}.";
    }

    private static string Ids(BitLockerMetadata metadata, ProtectorKind kind) => string.Join(" or ", metadata.Protectors.Where(p => p.Kind == kind)
        .Select(p => p.Id.ToString().ToUpperInvariant()));

    /// <summary>Clears the keys.</summary>
    public void Dispose()
    {
        _files?.ForEach(f => f.Content.Dispose());
        foreach (var volume in _opened.Values)
            volume.Dispose();
        _files = null;
        _opened.Clear();
    }

    private sealed record KeyFile(string Name, BitLockerKeyFile Content, bool IsInFolder)
    {
        internal bool IsFor(BitLockerMetadata metadata) => metadata.Protectors.Any(p => Content.Ids.Contains(p.Id));
    }
}

/// <summary>The words for a volume in messages.</summary>
/// <param name="Disk">Name of the disk.</param>
/// <param name="Partition">Null when the disk is a single volume.</param>
internal sealed record VolumeName(string Disk, int? Partition)
{
    /// <summary>At the beginning of a sentence.</summary>
    internal string Name => Partition is null ? Disk : $"Partition {Partition} of {Disk}";

    /// <summary>Within a sentence, where the disk may be another one.</summary>
    internal string Full => Partition is null ? Disk : $"partition {Partition} of {Disk}";

    /// <summary>Within a sentence.</summary>
    internal string Short => Partition is null ? Disk : $"partition {Partition}";

    /// <summary>Before what belongs to it.</summary>
    internal string Whose => $"{Short}'s";
}
