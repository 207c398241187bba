using Moorfield.Core.Storage;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Images;

/// <summary>Where a content that an image has dropped can be had from.</summary>
/// <param name="Blob">Its place in the image file; null when its bytes are not there any more.</param>
/// <param name="Open">Opens it in the vault; null when it is not kept there.</param>
internal sealed record RestorableContent(BlobEntry? Blob, Func<Stream>? Open);

/// <summary>
/// One change of an image file, over any number of its editions. Everything new is appended; only <see cref="Commit"/> makes it count. Until
/// then <see cref="Abandon"/> cuts the file back to what it was.
/// </summary>
internal sealed class ImageEdit : IDisposable
{
    private readonly ImageFile _file;
    private readonly InterceptedFileStream _output;
    private readonly WimEditor _editor;
    private readonly IReadOnlyDictionary<Sha1Hash, RestorableContent> _restorable;

    internal ImageEdit(ImageFile file, InterceptedFileStream output, DateTime time, IReadOnlyDictionary<Sha1Hash, RestorableContent> restorable)
    {
        _file = file;
        _output = output;
        _editor = new WimEditor(file.Wim, output);
        _restorable = restorable;
        Time = time;
    }

    /// <summary>UTC, of the changed editions and of what is written into them: <see cref="SourceDate"/>'s, or that of the newest edition.</summary>
    internal DateTime Time { get; }

    internal ReadOnlySpan<byte> HeaderAfter => _editor.Header.Bytes;

    internal long LengthAfter => _output.Length;

    /// <summary>Contents that no edition refers to after the change.</summary>
    internal IReadOnlyList<BlobEntry> Dropped => _editor.Dropped;

    /// <summary>The tree of an edition, for changing.</summary>
    internal WimEdition OpenEdition(int number) =>
        FormatErrors.Wrap(_file.Name, () => new WimEdition(_file, number, _file.ReadMetadata(number), this));

    /// <summary>Appends the metadata of a changed edition.</summary>
    internal void Add(WimEdition edition) => WrapErrors(() => _editor.SetMetadata(edition.Number, edition.Metadata, Time));

    /// <summary>Takes an edition out; the others are numbered again.</summary>
    internal void Drop(int number) => WrapErrors(() => _editor.RemoveImage(number));

    /// <summary>Gives an edition another name or description; null leaves one.</summary>
    internal void Rename(int number, string? name, string? description) => WrapErrors(() => _editor.Rename(number, name, description, Time));

    /// <summary>Appends a prepared content, once for all editions that get it.</summary>
    internal Sha1Hash Add(PreparedContent content, Sha1Hash basis)
    {
        lock (content)
        {
            if (content.AddedAs is null)
            {
                var old = _file.Wim.Blobs.Find(basis);
                WrapErrors(() => content.AddedAs = _editor.AddContent(content.After, old, content.Before));
                content.Before.Dispose();
                _file.AddWritten(content.AddedAs!.Value, content.After, old);
            }
            return content.AddedAs!.Value;
        }
    }

    /// <summary>Makes sure that the image has a content that comes back.</summary>
    internal void Restore(Sha1Hash hash)
    {
        if (_file.Wim.Blobs.Find(hash) is not null)
            return;
        var content = _restorable.GetValueOrDefault(hash)
            ?? throw new MoorfieldException(ErrorKind.Failed, $"{_file.Name}: the content {hash} is neither in the file nor in the vault.");
        WrapErrors(() =>
        {
            if (content.Blob is { } blob)
            {
                _editor.AddAgain(blob);
                return;
            }
            using var kept = FileContent.InMemory(content.Open!());
            if (_editor.AddContent(kept) != hash)
                throw new InvalidDataException($"would get another content than {hash} from the vault");
        });
    }

    internal long SizeOf(Sha1Hash hash) => _editor.SizeOf(hash);

    /// <summary>Writes the tables, and everything to the disk; only the header is missing then.</summary>
    internal void Finish() => WrapErrors(_editor.Finish);

    /// <summary>Overwrites the header: now the file is the new one.</summary>
    internal void Commit()
    {
        _editor.Commit();
        _file.Reload();
    }

    /// <summary>Makes the file what it was: the old header, in case the new one was being written, and the old length.</summary>
    internal void Abandon(bool wasCommitting)
    {
        if (wasCommitting)
            WimEditor.WriteHeader(_output, _file.Wim.Header.Bytes);
        _output.SetLength(_file.Wim.Length);
        _output.Flush();
    }

    private void WrapErrors(Action act) => FormatErrors.Wrap(_file.Name, () =>
    {
        act();
        return true;
    });

    public void Dispose() => _output.Dispose();
}
