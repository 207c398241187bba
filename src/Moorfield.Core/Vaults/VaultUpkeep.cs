using System.Collections.Immutable;
using Moorfield.Core.Model;

namespace Moorfield.Core.Vaults;

/// <summary>What a restore point takes in its vault, as stored.</summary>
/// <param name="Own">Bytes that nothing else needs.</param>
/// <param name="Shared">Bytes that other restore points need as well.</param>
public sealed record PointSize(int Number, long Own, long Shared);

/// <summary>What is wrong with a restore point.</summary>
/// <param name="Text">A sentence.</param>
/// <param name="Packages">Names of the packages that it endangers; none when it concerns all of them, or none.</param>
public sealed record PointFault(int Number, string Text, ImmutableArray<string> Packages);

/// <summary>Which restore points may go, and which stay although they were named.</summary>
public sealed record PointDeletion(ImmutableArray<PointSummary> Gone, ImmutableArray<(PointSummary Point, string Why)> Stay)
{
    /// <summary>Those whose undo goes with it, and which are noted as undone.</summary>
    internal ImmutableArray<int> NotedBack { get; init; } = [];
}

/// <summary>What a look at a vault found that a run left there which was cut off.</summary>
/// <param name="Contents">Files among the contents that nothing needs.</param>
/// <param name="Bytes">Of them.</param>
/// <param name="Strays">Files beside the documents that belong to none.</param>
/// <param name="Faults">Documents that cannot be read; while there are any, no content counts as unneeded.</param>
public sealed record VaultFindings(ImmutableArray<string> Contents, long Bytes, ImmutableArray<string> Strays, ImmutableArray<PointFault> Faults);

/// <summary>Keeps a vault in order over the years: sizes, verification, deletion.</summary>
public static class VaultUpkeep
{
    /// <summary>The contents that a restore point needs, and for which packages; an empty family where that cannot be told.</summary>
    internal static IEnumerable<(string Hash, string Family)> Contents(RestorePoint point)
    {
        foreach (var file in point.Files.Where(f => f.Edition is null))
        {
            yield return (file.Before, "");
            yield return (file.After, "");
        }
        var trees = point.Changes.OfType<TreeChange>().Select(c => (c.Family, Tree: c.Recorded))
            .Concat(point.State?.Systems.SelectMany(s => s.Trees).Select(t => (t.Family, (RecordedTree?)t.Tree)) ?? []);
        foreach (var (family, tree) in trees)
        {
            foreach (string content in tree is null ? [] : Contents(tree))
                yield return (content, family);
        }
        foreach (var entry in point.State?.Systems.SelectMany(s => s.Entries) ?? [])
        {
            if (entry.Content is { } content)
                yield return (content, "");
        }
        foreach (var dropped in point.Image?.Dropped ?? [])
        {
            if (dropped.Kept is { } kept)
                yield return (kept, "");
        }
        if (point.Disk is { } disk)
            yield return (disk.Journal, "");
    }

    /// <summary>The contents that the vault has of a recorded tree.</summary>
    internal static IEnumerable<string> Contents(RecordedTree tree) => tree.Entries.SelectMany(entry => entry switch
    {
        RecordedVolumeEntry { Blob: { } blob } => [blob],
        RecordedDiskEntry disk => disk.Streams.Select(s => s.Blob),
        _ => Enumerable.Empty<string>(),
    });

    /// <summary>What each restore point takes. All documents are read.</summary>
    /// <param name="damaged">Told of each that cannot be read.</param>
    public static ImmutableArray<PointSize> Sizes(Vault vault, Action<string> damaged)
    {
        var needed = new Dictionary<int, HashSet<string>>();
        foreach (int number in vault.Numbers())
        {
            try
            {
                needed[number] = [.. Contents(vault.Read(number)).Select(c => c.Hash)];
            }
            catch (MoorfieldException e)
            {
                damaged(e.Message);
            }
        }
        var users = needed.SelectMany(n => n.Value).GroupBy(h => h)
            .ToDictionary(g => g.Key, g => (Users: g.Count(), Bytes: vault.StoredSize(g.Key) ?? 0));
        return [.. needed.Select(n => new PointSize(n.Key, n.Value.Sum(h => users[h].Users == 1 ? users[h].Bytes : 0),
            n.Value.Sum(h => users[h].Users > 1 ? users[h].Bytes : 0)))];
    }

    /// <summary>Reads a restore point, and all contents that it needs, against their digests.</summary>
    /// <param name="known">Contents that were read already, and whether they are sound.</param>
    public static IEnumerable<PointFault> Verify(Vault vault, int number, IDictionary<string, bool> known)
    {
        RestorePoint? point = null;
        string? fault = null;
        try
        {
            point = vault.Read(number);
        }
        catch (MoorfieldException e)
        {
            fault = e.Message;
        }
        if (point is null)
        {
            yield return new PointFault(number, $"{fault} Nothing of it can be undone.", []);
            yield break;
        }
        var names = point.Packages.DistinctBy(p => p.Family, StringComparer.OrdinalIgnoreCase)
            .ToDictionary(p => p.Family, p => p.DisplayName, StringComparer.OrdinalIgnoreCase);
        foreach (var content in Contents(point).GroupBy(c => c.Hash))
        {
            if (!known.TryGetValue(content.Key, out bool isSound))
                known[content.Key] = isSound = vault.IsSound(content.Key);
            if (isSound)
                continue;
            var families = content.Select(c => c.Family).Where(f => f.Length > 0).Distinct(StringComparer.OrdinalIgnoreCase).ToList();
            yield return new PointFault(number, $"The content {content.Key} {(vault.HasBlob(content.Key) ? "is damaged" : "is lost")}.",
                [.. families.Select(f => names.GetValueOrDefault(f, f)).Order(StringComparer.Ordinal)]);
        }
    }

    /// <summary>Works out which restore points go.</summary>
    /// <param name="points">All of the vault.</param>
    /// <param name="wanted">Numbers that are to go.</param>
    /// <param name="byName">Whether a person named each of them; otherwise pinned ones stay without a word.</param>
    public static PointDeletion Plan(IReadOnlyCollection<PointSummary> points, IReadOnlySet<int> wanted, bool byName)
    {
        var stay = new List<(PointSummary, string)>();
        var gone = points.Where(p => wanted.Contains(p.Point.Number)).ToDictionary(p => p.Point.Number);
        var back = new HashSet<int>();
        foreach (var point in gone.Values.ToList())
        {
            if (point.IsPinned)
                Keep(point, "is pinned");
            else if (point.State == PointState.Interrupted)
                Keep(point, "was interrupted: undo it or finish it first");
        }
        // An undo says what became of the run that it undid: it goes with that one, or leaves a word there.
        bool changed = true;
        while (changed)
        {
            changed = false;
            back.Clear();
            foreach (var undo in gone.Values.Where(p => p.Point.Undoes is not null).ToList())
            {
                var undone = points.FirstOrDefault(p => p.Point.Number == undo.Point.Undoes);
                if (undone is null || gone.ContainsKey(undone.Point.Number) || !undone.UndoneBy.Contains(undo.Point.Number))
                    continue;
                if (undone.Point.Kind != RunKind.Undo && undone.State == PointState.Undone)
                    back.Add(undone.Point.Number);
                else
                {
                    Keep(undo, $"is what became of restore point {undone.Point.Number}: delete that one with it");
                    changed = true;
                }
            }
        }
        return new PointDeletion([.. gone.Values.OrderBy(p => p.Point.Number)], [.. stay]) { NotedBack = [.. back] };

        void Keep(PointSummary point, string why)
        {
            gone.Remove(point.Point.Number);
            if (byName || !point.IsPinned)
                stay.Add((point, why));
        }
    }

    /// <summary>Works out which of the oldest restore points go so that the contents fit into a limit.</summary>
    /// <param name="limit">Bytes, as stored.</param>
    /// <param name="kept">The newest, which stays.</param>
    /// <returns>Null when nothing has to go.</returns>
    /// <exception cref="MoorfieldException">A document cannot be read: what it needs is not known, and nothing goes.</exception>
    public static PointDeletion? Fit(Vault vault, long limit, int kept)
    {
        if (vault.StoredBytes <= limit)
            return null;
        var points = PointHistory.Read(vault, message => throw new MoorfieldException(Trouble.Failed, message));
        var needed = points.ToDictionary(p => p.Point.Number, p => Contents(vault.Read(p.Point.Number)).Select(c => c.Hash).ToHashSet());
        var wanted = new HashSet<int>();
        PointDeletion? deletion = null;
        foreach (var point in points.Where(p => !p.IsPinned && p.State != PointState.Interrupted && p.Point.Number != kept))
        {
            wanted.Add(point.Point.Number);
            deletion = Plan(points, wanted, byName: false);
            var gone = deletion.Gone.Select(g => g.Point.Number).ToHashSet();
            if (needed.Where(n => !gone.Contains(n.Key)).SelectMany(n => n.Value).Distinct().Sum(h => vault.StoredSize(h) ?? 0) <= limit)
                break;
        }
        return deletion is { Gone.IsEmpty: false } ? deletion : null;
    }

    /// <summary>Deletes restore points, and contents that none of the others needs.</summary>
    /// <returns>Bytes that were given back, and why no content went, when none could.</returns>
    /// <exception cref="MoorfieldException">Another run has the vault open; nothing was deleted.</exception>
    public static (long Bytes, string? Why) Delete(Vault vault, PointDeletion deletion, TimeProvider clock)
    {
        TakeAlone(vault);
        foreach (int number in deletion.NotedBack)
            vault.Append(number, new JournalLine(clock.GetUtcNow(), JournalLine.Back));
        vault.Delete(deletion.Gone.Select(g => g.Point.Number));
        var findings = Look(vault);
        Sweep(vault, findings);
        return (findings.Bytes, findings.Faults is [var fault, ..] ? fault.Text : null);
    }

    /// <summary>Looks for what runs left that were cut off.</summary>
    /// <exception cref="MoorfieldException">The vault cannot be read.</exception>
    public static VaultFindings Look(Vault vault)
    {
        var faults = ImmutableArray.CreateBuilder<PointFault>();
        var needed = new HashSet<string>();
        foreach (int number in vault.Numbers())
        {
            try
            {
                needed.UnionWith(Contents(vault.Read(number)).Select(c => c.Hash));
            }
            catch (MoorfieldException e)
            {
                faults.Add(new PointFault(number, e.Message, []));
            }
        }
        // What a document needs that cannot be read is not known.
        var unneeded = faults.Count > 0 ? [] : vault.Files().Where(f => f.Hash is null || !needed.Contains(f.Hash)).ToList();
        return new VaultFindings([.. unneeded.Select(f => f.Path)], unneeded.Sum(f => f.Bytes), [.. vault.StrayNames()], faults.ToImmutable());
    }

    /// <summary>Takes away what a look found.</summary>
    /// <exception cref="MoorfieldException">Another run has the vault open; nothing was taken away.</exception>
    public static VaultFindings Mend(Vault vault)
    {
        TakeAlone(vault);
        var findings = Look(vault); // again: a run may have ended since
        Sweep(vault, findings);
        return findings;
    }

    private static void Sweep(Vault vault, VaultFindings findings)
    {
        foreach (string name in findings.Strays)
            vault.DeleteStray(name);
        foreach (string path in findings.Contents)
            vault.DeleteFile(path);
    }

    private static void TakeAlone(Vault vault)
    {
        if (!vault.TryTakeAlone())
            throw new MoorfieldException(Trouble.Refused, $"Another run is using the vault {vault.FullPath}. Nothing was deleted.");
    }
}
