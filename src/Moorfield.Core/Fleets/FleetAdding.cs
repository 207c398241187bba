using System.Security.Cryptography;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Core.Trees;

namespace Moorfield.Core.Fleets;

/// <summary>The sum of an addition.</summary>
/// <param name="Known">The number of documents that had been added before.</param>
public sealed record FleetAddition(FleetAdded Added, int Known, ImmutableArray<FleetFailure> Failures);

/// <summary>Reads documents and other targets into a store: several at once, and stored some hundred at a time.</summary>
public static class FleetAdding
{
    // As much as is read in some seconds, and finds room in memory: what a kill loses of the work, and nothing of the store.
    private const int MaxBatch = 256;
    private const long MaxBatchBytes = 64L << 20;

    // Systems of other targets have hives of a hundred megabytes.
    private const long WholeBytes = 512L << 20;

    /// <summary>Adds targets, a folder of surveys as all documents in it.</summary>
    /// <param name="told">Called after each batch, with the number of targets that are done, and of all.</param>
    /// <param name="stop">Ends it between two batches.</param>
    public static FleetAddition Add(
        IFleetStore store, IReadOnlyList<string> paths, OpenOptions options, Action<int, int> told, CancellationToken stop)
    {
        options = options with { Parsed = new ParsedContents(), Names = store.Names };
        var items = new FleetItems();
        List<string> files = [.. paths.SelectMany(p => FleetFolder.TryOpen(p) is { } folder ? folder.Files : [p]).Distinct(StringComparer.Ordinal)];
        var added = new FleetAdded(0, 0, 0, 0);
        var failures = new List<FleetFailure>();
        int known = 0, done = 0;
        foreach (var batch in Batches(files))
        {
            if (stop.IsCancellationRequested)
                break;
            List<(string Path, byte[]? Content, byte[]? Digest, FleetFailure? Failure)> found = [.. batch.AsParallel().AsOrdered().Select(Find)];
            var before = store.Known([.. found.Select(f => f.Digest).OfType<byte[]>()]);
            known += found.RemoveAll(f => f.Digest is not null && before.Contains(f.Digest));
            var now = store.Now;
            var read = found.AsParallel().AsOrdered().Select(f => f.Failure is { } failure ? (Entries: [], Failure: failure)
                : Read(f.Path, f.Content, f.Digest, options, items, now)).ToList();
            failures.AddRange(read.Select(r => r.Failure).OfType<FleetFailure>());
            added += store.Add([.. read.SelectMany(r => r.Entries)]);
            told(done += batch.Count, files.Count);
        }
        return new FleetAddition(added, known, [.. failures]);
    }

    private static IEnumerable<List<string>> Batches(IEnumerable<string> files)
    {
        var batch = new List<string>();
        long bytes = 0;
        foreach (string file in files)
        {
            long length = File.Exists(file) ? new FileInfo(file).Length : 0;
            if (batch.Count == MaxBatch || (batch.Count > 0 && bytes + length > MaxBatchBytes))
            {
                yield return batch;
                (batch, bytes) = ([], 0);
            }
            batch.Add(file);
            bytes += length;
        }
        if (batch.Count > 0)
            yield return batch;
    }

    private static (string Path, byte[]? Content, byte[]? Digest, FleetFailure? Failure) Find(string path)
    {
        try
        {
            byte[]? content = ReadDocument(path);
            return (path, content, content is null ? null : SHA256.HashData(content), null);
        }
        catch (MoorfieldException e)
        {
            return (path, null, null, new FleetFailure(path, e.Message));
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return (path, null, null, new FleetFailure(path, $"{path} cannot be read: {e.Message}"));
        }
    }

    private static (ImmutableArray<FleetEntry> Entries, FleetFailure? Failure) Read(
        string path, byte[]? content, byte[]? digest, OpenOptions options, FleetItems items, DateTimeOffset now)
    {
        try
        {
            using var target = content is null ? Target.Open(path, new WriteInterceptor(), options) : Target.OpenDocument(path, content, options);
            var made = content is null ? now : new DateTimeOffset(File.GetLastWriteTimeUtc(path));
            return ([.. target.Read(target.SelectEditions([]), KnownGuards.All).Select(system =>
            {
                byte[] document = content ?? SavedInventory.Write(target, [system]);
                // Each edition of an image counts as a machine; what is no document is seen again each time.
                byte[] whole = digest ?? [.. SHA256.HashData(document), .. BitConverter.GetBytes(made.UtcTicks)];
                byte[] own = digest is not null && system.EditionNumber is null ? digest
                    : SHA256.HashData([.. whole, .. BitConverter.GetBytes(system.EditionNumber ?? 0)]);
                var machine = FleetMachine.Of(target, system, items);
                return new FleetEntry(own, machine with { Made = machine.Made ?? made }, document);
            })], null);
        }
        catch (MoorfieldException e)
        {
            return ([], new FleetFailure(path, e.Message));
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return ([], new FleetFailure(path, $"{path} cannot be read: {e.Message}"));
        }
    }

    /// <summary>The content of a survey or a saved inventory; null when the target is something else.</summary>
    private static byte[]? ReadDocument(string path)
    {
        if (!FleetFolder.IsDocument(path))
            return null;
        using var file = RegularFile.OpenRead(path);
        if (file is null || file.Length > WholeBytes)
            return null;
        return FileContent.ReadAll(file.SafeFileHandle, WholeBytes);
    }
}
