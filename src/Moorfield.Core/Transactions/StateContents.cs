using Moorfield.Core.Images;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Transactions;

/// <summary>The part of the file that holds the systems that a recorded state keeps: nothing, unless it is an image.</summary>
internal class StateContents
{
    /// <summary>The restore point's record of the image file; null without one.</summary>
    internal virtual ImageState? Image => null;

    /// <summary>Keeps the contents of a recorded tree, where the tree itself does not.</summary>
    internal virtual void Keep(RecordedTree recorded)
    {
    }
}

/// <summary>Keeps the contents of an image: another program may drop them for good.</summary>
internal sealed class ImageStateContents(ImageFile image, Vault vault) : StateContents
{
    private readonly Dictionary<Sha1Hash, DroppedContent> _contents = [];

    internal override ImageState Image
    {
        get
        {
            byte[] header = [.. image.Wim.Header.Bytes];
            return new ImageState(header, image.Wim.Length, header, image.Wim.Length, [.. _contents.Values]);
        }
    }

    internal override void Keep(RecordedTree recorded)
    {
        foreach (var hash in WimEdition.Contents(recorded).Where(h => !_contents.ContainsKey(h)))
        {
            if (image.Wim.Blobs.Find(hash) is not { } blob)
                continue;
            using var content = image.OpenContent(blob);
            _contents[hash] = new DroppedContent(
                hash.ToString(), blob.Resource.Offset, blob.Resource.StoredSize, blob.Resource.Size, (byte)blob.Resource.Flags, vault.Keep(content));
        }
    }
}
