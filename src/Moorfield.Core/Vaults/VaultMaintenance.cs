namespace Moorfield.Core.Vaults;

/// <summary>The space that a restore point takes in its vault, as stored.</summary>
/// <param name="Own">Bytes that nothing else needs.</param>
/// <param name="Shared">Bytes that other restore points need as well.</param>
public sealed record PointSize(int Number, long Own, long Shared);

/// <summary>A fault of a restore point.</summary>
/// <param name="Text">A sentence.</param>
/// <param name="Packages">Names of the packages that it endangers; none when it concerns all of them, or none.</param>
public sealed record PointFault(int Number, string Text, ImmutableArray<string> Packages);

/// <summary>Which restore points may go, and which stay although they were named.</summary>
public sealed record PointDeletion(ImmutableArray<PointSummary> Gone, ImmutableArray<(PointSummary Point, string Why)> Stay)
{
    /// <summary>Those whose undo goes with it, and which are noted as undone.</summary>
    internal ImmutableArray<int> MarkedUndone { get; init; } = [];
}

/// <summary>The findings of an inspection of a vault: remains of interrupted runs.</summary>
/// <param name="Contents">Files among the contents that nothing needs.</param>
/// <param name="Bytes">Of them.</param>
/// <param name="Strays">Files next to the documents that belong to none.</param>
/// <param name="Faults">Documents that mean nothing. While there are any, contents that nothing names may be theirs, and count as needed.</param>
public sealed record VaultFindings(ImmutableArray<string> Contents, long Bytes, ImmutableArray<string> Strays, ImmutableArray<PointFault> Faults)
{
    /// <summary>Why no content counts as unneeded: a document of which nothing can be read; null when all could be.</summary>
    public string? Why { get; init; }
}

/// <summary>Keeps a vault in order over the years: sizes, verification, deletion.</summary>
public static class VaultMaintenance
{
    /// <summary>The contents that a restore point needs, and for which packages; an empty family where that is not known.</summary>
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

    /// <summary>The space that each restore point takes. All documents are read.</summary>
    /// <param name="damaged">Called with each that cannot be read.</param>
    public static ImmutableArray<PointSize> Sizes(Vault vault, Action<string> damaged)
    {
        var bytes = Bytes(vault);
        var needed = new Dictionary<int, HashSet<string>>();
        foreach (int number in vault.Numbers())
        {
            try
            {
                needed[number] = [.. vault.NamedContents(number).Where(bytes.ContainsKey)];
            }
            catch (MoorfieldException e)
            {
                damaged(e.Message);
            }
        }
        var users = needed.SelectMany(n => n.Value).CountBy(h => h).ToDictionary();
        return [.. needed.Select(n => new PointSize(n.Key, n.Value.Sum(h => users[h] == 1 ? bytes[h] : 0),
            n.Value.Sum(h => users[h] > 1 ? bytes[h] : 0)))];
    }

    /// <summary>Bytes of each content, as stored, by the name that documents have for it.</summary>
    private static Dictionary<string, long> Bytes(Vault vault)
    {
        var bytes = new Dictionary<string, long>(StringComparer.Ordinal);
        foreach (var (_, name, size) in vault.Files())
        {
            if (name is not null)
                bytes[name] = size;
        }
        return bytes;
    }

    /// <summary>Reads a restore point, and all contents that it needs, against their digests.</summary>
    /// <param name="known">Contents that were read already, and whether they are sound.</param>
    /// <param name="locked">Called with the number when it is encrypted and no key that opens it is here: only the ciphertext is read then.</param>
    public static IEnumerable<PointFault> Verify(Vault vault, int number, IDictionary<string, bool> known, Action<int>? locked = null)
    {
        RestorePoint? point = null;
        string? fault = null;
        try
        {
            if (vault.Locked(number) is { } seal)
            {
                locked?.Invoke(number);
                return VerifyLocked(vault, number, seal, known).Concat(ReportFault(vault, number));
            }
            point = vault.Read(number);
        }
        catch (MoorfieldException e)
        {
            fault = e.Message;
        }
        return point is null ? [new PointFault(number, $"{fault} Nothing of it can be undone.", [])]
            : Verify(vault, point, known).Concat(ReportFault(vault, number));
    }

    private static IEnumerable<PointFault> ReportFault(Vault vault, int number) =>
        vault.ReportFault(number) is { } fault ? [new PointFault(number, fault, [])] : [];

    private static IEnumerable<PointFault> VerifyLocked(Vault vault, int number, LockedPoint locked, IDictionary<string, bool> known)
    {
        if (!locked.IsWhole)
            yield return new PointFault(number, $"Restore point {number} in {vault.FullPath} is damaged. Nothing of it can be undone.", []);
        foreach (string name in locked.Names)
        {
            if (!known.TryGetValue(name, out bool isWhole))
                known[name] = isWhole = vault.IsWhole(name);
            if (!isWhole)
                yield return new PointFault(number, $"The content {name} is damaged or lost.", []);
        }
    }

    private static IEnumerable<PointFault> Verify(Vault vault, RestorePoint point, IDictionary<string, bool> known)
    {
        var names = point.Packages.DistinctBy(p => p.Family, StringComparer.OrdinalIgnoreCase)
            .ToDictionary(p => p.Family, p => p.DisplayName, StringComparer.OrdinalIgnoreCase);
        foreach (var content in Contents(point).GroupBy(c => c.Hash))
        {
            if (!known.TryGetValue(content.Key, out bool isSound))
                known[content.Key] = isSound = vault.IsSound(content.Key);
            if (isSound)
                continue;
            var families = content.Select(c => c.Family).Where(f => f.Length > 0).Distinct(StringComparer.OrdinalIgnoreCase).ToList();
            yield return new PointFault(point.Number, $"The content {content.Key} {(vault.HasBlob(content.Key) ? "is damaged" : "is lost")}.",
                [.. families.Select(f => names.GetValueOrDefault(f, f)).Order(StringComparer.Ordinal)]);
        }
    }

    /// <summary>Works out which restore points go.</summary>
    /// <param name="points">All of the vault.</param>
    /// <param name="wanted">Numbers that are to go.</param>
    /// <param name="byName">True if a person named each of them; otherwise pinned ones stay without a word.</param>
    /// <param name="isMarked">True if a marker still names a point of which the journal leaves that open.</param>
    public static PointDeletion Plan(IReadOnlyCollection<PointSummary> points, IReadOnlySet<int> wanted, bool byName,
        Func<PointHead, bool> isMarked)
    {
        var stay = new List<(PointSummary, string)>();
        var all = points.ToDictionary(p => p.Point.Number);
        var gone = points.Where(p => wanted.Contains(p.Point.Number)).ToDictionary(p => p.Point.Number);
        var back = new HashSet<int>();
        foreach (var point in gone.Values.ToList())
        {
            if (point.IsPinned)
                Keep(point, "is pinned");
            else if (point.State == PointState.Interrupted)
                Keep(point, "was interrupted: undo it or finish it first");
            else if (point.MayBeMarked && isMarked(point.Point))
                Keep(point, $"may still be named by the marker of an interrupted run on {point.Point.Target.Path}: run any command on that first");
        }
        // An undo says what became of the run that it undid: it goes with that one, or leaves a word there.
        bool changed = true;
        while (changed)
        {
            changed = false;
            back.Clear();
            foreach (var undo in gone.Values.Where(p => p.Point.Undoes is not null).ToList())
            {
                if (!all.TryGetValue(undo.Point.Undoes!.Value, out var undone) || gone.ContainsKey(undone.Point.Number)
                    || !undone.UndoneBy.Contains(undo.Point.Number))
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
        return new PointDeletion([.. gone.Values.OrderBy(p => p.Point.Number)], [.. stay]) { MarkedUndone = [.. back] };

        void Keep(PointSummary point, string why)
        {
            gone.Remove(point.Point.Number);
            if (byName || !point.IsPinned)
                stay.Add((point, why));
        }
    }

    /// <summary>
    /// Works out which of the oldest restore points go so that the contents fit into a limit, or come as near to it as they can: where the newest
    /// needs more, none goes that gives nothing back. A point that cannot be read stays, and with it all that it may need.
    /// </summary>
    /// <param name="limit">Bytes, as stored.</param>
    /// <param name="kept">The newest, which stays.</param>
    /// <param name="damaged">Called with each point that cannot be read.</param>
    /// <returns>Null when nothing has to go, or nothing can.</returns>
    public static PointDeletion? EnforceLimit(Vault vault, long limit, int kept, Action<string> damaged)
    {
        long total = vault.StoredBytes;
        if (total <= limit)
            return null;
        var bytes = Bytes(vault);
        var points = PointHistory.Read(vault, damaged);
        var users = new Dictionary<string, int>(StringComparer.Ordinal);
        var needed = new Dictionary<int, string[]>();
        // So that each name is in memory once.
        var names = bytes.Keys.ToDictionary(name => name, StringComparer.Ordinal);
        foreach (int number in vault.Numbers())
        {
            needed[number] = [.. vault.NamedContents(number).Select(names.GetValueOrDefault).OfType<string>()];
            foreach (string hash in needed[number])
                users[hash] = users.GetValueOrDefault(hash) + 1;
        }
        // What nothing needs goes in any case.
        long rest = total - bytes.Where(b => !users.ContainsKey(b.Key)).Sum(b => b.Value);
        var wanted = new HashSet<int>();
        HashSet<int> useful = [];
        PointDeletion? deletion = null;
        foreach (var point in points.Where(p => !p.IsPinned && !p.MayBeMarked && p.State != PointState.Interrupted && p.Point.Number != kept))
        {
            if (rest <= limit)
            {
                deletion = Plan(points, wanted, byName: false, _ => true);
                if (deletion.Gone.Length == wanted.Count)
                    break;
            }
            wanted.Add(point.Point.Number);
            deletion = null;
            long before = rest;
            foreach (string hash in needed[point.Point.Number])
            {
                if (--users[hash] == 0)
                    rest -= bytes[hash];
            }
            if (rest < before)
                useful = [.. wanted];
        }
        deletion ??= Plan(points, useful, byName: false, _ => true);
        return deletion is { Gone.IsEmpty: false } ? deletion : null;
    }

    /// <summary>Deletes restore points, and contents that none of the others needs.</summary>
    /// <param name="shown">The points that a person has seen, or that a limit asks for.</param>
    /// <param name="isMarked">As for <see cref="Plan"/>, asked again.</param>
    /// <returns>Bytes that were given back, which points went, and why no content went, when none could.</returns>
    /// <exception cref="MoorfieldException">Another run has the vault open; nothing was deleted.</exception>
    public static (long Bytes, PointDeletion Deleted, string? Why) Delete(
        Vault vault, PointDeletion shown, TimeProvider clock, Func<PointHead, bool> isMarked)
    {
        AcquireExclusively(vault);
        // Meanwhile one may have been pinned, undone or deleted.
        var now = Plan(PointHistory.Read(vault, _ => { }), shown.Gone.Select(g => g.Point.Number).ToHashSet(), byName: true, isMarked);
        foreach (int number in now.MarkedUndone)
            vault.Append(number, new JournalLine(clock.GetUtcNow(), JournalLine.Back));
        var released = new HashSet<string>(StringComparer.Ordinal);
        foreach (var gone in now.Gone)
        {
            try
            {
                released.UnionWith(vault.NamedContents(gone.Point.Number));
            }
            catch (MoorfieldException)
            {
                // what it needed stays, where another document is damaged
            }
        }
        vault.Delete(now.Gone.Select(g => g.Point.Number));
        var findings = Inspect(vault, released);
        Sweep(vault, findings);
        return (findings.Bytes, now, findings.Why);
    }

    /// <summary>Looks for what runs left that were interrupted.</summary>
    /// <exception cref="MoorfieldException">The vault cannot be read.</exception>
    public static VaultFindings Inspect(Vault vault) => Inspect(vault, []);

    /// <param name="released">Contents that a point named which was just deleted: these go even where it is not known whose the others are.</param>
    private static VaultFindings Inspect(Vault vault, HashSet<string> released)
    {
        var faults = ImmutableArray.CreateBuilder<PointFault>();
        var needed = new HashSet<string>(StringComparer.Ordinal);
        string? why = null;
        foreach (int number in vault.Numbers())
        {
            try
            {
                needed.UnionWith(vault.NamedContents(number));
            }
            catch (MoorfieldException e)
            {
                why ??= e.Message; // what it needs cannot be known
            }
            if (vault.Fault(number) is { } fault)
                faults.Add(new PointFault(number, fault, []));
        }
        var unneeded = why is not null ? [] : vault.Files().Where(f => f.Hash is null
            || (!needed.Contains(f.Hash) && (faults.Count == 0 || released.Contains(f.Hash)))).ToList();
        return new VaultFindings([.. unneeded.Select(f => f.Path)], unneeded.Sum(f => f.Bytes), [.. vault.StrayNames()], faults.ToImmutable())
        {
            Why = why,
        };
    }

    /// <summary>Takes away what a look found.</summary>
    /// <exception cref="MoorfieldException">Another run has the vault open; nothing was taken away.</exception>
    public static VaultFindings Repair(Vault vault)
    {
        AcquireExclusively(vault);
        var findings = Inspect(vault); // again: a run may have ended since
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

    private static void AcquireExclusively(Vault vault)
    {
        if (!vault.TryAcquireExclusively())
            throw new MoorfieldException(RefusalReason.InUse, $"Another run is using the vault {vault.FullPath}. Nothing was deleted.");
    }
}
