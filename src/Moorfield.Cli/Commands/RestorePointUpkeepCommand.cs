using Moorfield.Cli.Host;
using Moorfield.Core.Transactions;
using Moorfield.Reporting.Pages;

namespace Moorfield.Cli.Commands;

/// <summary>Restore points that are verified, pinned, noted and deleted, and the vault that holds them.</summary>
internal static class RestorePointUpkeepCommand
{
    private static Option<bool> Yes() => new("--yes", "-y") { Description = "Do not ask for confirmation" };

    private static Vault Open(Invocation call, Option<string?> vaultPath)
    {
        string path = Vault.ChoosePath(call.GetValue(vaultPath));
        return Vault.OpenExisting(path, new WriteInterceptor())
            ?? throw new MoorfieldException(ErrorKind.InvalidUsage, $"There is no vault at {path}. Name another with --vault.");
    }

    private static void CheckThere(Vault vault, IEnumerable<int> numbers)
    {
        if (numbers.Except(vault.Numbers()).FirstOrDefault() is > 0 and var missing)
        {
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"The vault {vault.FullPath} has no restore point {missing}. 'moorfield restore-point list' lists them.");
        }
    }

    internal static Command CreateVerify()
    {
        var numbers = new Argument<int[]>("POINT") { Description = "Numbers of restore points (default: all)", Arity = ArgumentArity.ZeroOrMore };
        var mend = new Option<bool>("--mend") { Description = "Delete what no restore point needs" };
        var (vaultPath, format) = (Common.VaultPath(), Common.Format(hasCases: true));
        var command = new Command("verify", """
            Checks restore points and their contents by their digests, and names the packages that damage affects. Without numbers, also finds
            what interrupted runs left in the vault: contents that no restore point needs, and stray files. Exit code 4 if something is damaged
            or left.

            Example:
              moorfield restore-point verify
              moorfield restore-point verify 3 4
              moorfield restore-point verify --mend
            """)
        { numbers, mend, vaultPath, format, Common.ReportFile };
        command.Handle(call =>
        {
            using var vault = Open(call, vaultPath);
            int[] wanted = call.GetValue(numbers) ?? [];
            if (call.GetValue(mend) && wanted.Length > 0)
                throw new MoorfieldException(ErrorKind.InvalidUsage, "--mend is for the whole vault; omit the numbers.");
            CheckThere(vault, wanted);
            IReadOnlyList<int> all = wanted.Length > 0 ? wanted : vault.Numbers();
            var known = new Dictionary<string, bool>();
            int at = 0;
            var faults = new List<PointFault>();
            var locked = new List<int>();
            using (new Ticker(call.Console, () => $"Reading restore point {at}"))
            {
                foreach (int number in all.Distinct())
                {
                    at = number;
                    faults.AddRange(VaultMaintenance.Verify(vault, number, known, locked.Add));
                }
            }
            int points = all.Distinct().Count(), sound = points - faults.Select(f => f.Number).Distinct().Count();
            bool mends = call.GetValue(mend);
            var findings = wanted.Length > 0 ? null : mends ? VaultMaintenance.Repair(vault) : VaultMaintenance.Inspect(vault);
            var others = findings?.Faults.Where(f => !faults.Exists(t => t.Number == f.Number)).ToList() ?? [];
            bool isLeft = findings is { Contents.Length: > 0 } or { Strays.Length: > 0 };
            call.Write(format, new Report(
                () => new VerificationJson("moorfield.verification/1", vault.FullPath, points, sound, known.Count, known.Count(k => k.Value),
                    [.. faults.Concat(others).Select(f => new FaultJson(f.Number, f.Text, [.. f.Packages]))], findings?.Contents.Length ?? 0,
                    findings?.Strays.Length ?? 0, findings?.Bytes ?? 0, mends, [.. locked]),
                page =>
                {
                    foreach (var fault in faults)
                    {
                        page.Error($"Restore point {fault.Number}: {fault.Text}" + (fault.Packages.IsEmpty ? ""
                            : $" It is needed to put back {TextFormat.List(fault.Packages)}; undo puts back everything else."));
                    }
                    page.Line($"{TextTable.Count(sound, "restore point")} of {points} sound, {TextTable.Count(known.Count(k => k.Value), "content")} "
                        + $"of {known.Count} as recorded.");
                    if (locked.Count > 0)
                    {
                        page.Line($"No key that is here opens {(locked.Count == 1 ? "restore point" : "restore points")} "
                            + $"{string.Join(", ", locked)}: only the ciphertext was checked.");
                    }
                    others.ForEach(f => page.Error(f.Text));
                    if (findings is { Faults.IsEmpty: false })
                        page.Line("Until that is mended, all contents stay, because it is not known which are needed.");
                    if (isLeft)
                        page.Line($"{(mends ? "Deleted" : "Found")}: {TextTable.Count(findings!.Contents.Length, "content")} that nothing needs "
                            + $"({TextTable.Size(findings.Bytes)}), {TextTable.Count(findings.Strays.Length, "file")} next to the documents."
                            + (mends ? "" : " --mend deletes them."));
                }, Cases: () =>
                [
                    .. all.Distinct().Select(n => new TestCase("restore points", $"restore point {n}",
                        faults.Exists(f => f.Number == n) ? "damaged" : null, [.. faults.Where(f => f.Number == n).Select(f => f.Text)])),
                    .. others.Select(f => new TestCase("restore points", $"restore point {f.Number}", f.Text)),
                    .. isLeft && !mends ? [new TestCase("restore points", "vault", "interrupted runs left something")] : Array.Empty<TestCase>(),
                ]));
            return faults.Count > 0 || findings is { Faults.IsEmpty: false } || (isLeft && !mends) ? ExitCode.Differs : ExitCode.Done;
        });
        return command;
    }

    internal static Command CreateDelete()
    {
        var numbers = new Argument<int[]>("POINT") { Description = "Numbers of restore points", Arity = ArgumentArity.ZeroOrMore };
        var older = new Option<string?>("--older-than") { Description = "Older than this, for example 90d or 12w",
            HelpName = "AGE" };
        var last = new Option<int?>("--except-last") { Description = "All but the newest N of each target", HelpName = "N" };
        var only = new Option<string?>("--target") { Description = "With these: only runs on this target", HelpName = "TARGET" };
        var preview = new Option<bool>("--preview") { Description = "Show what would be deleted, and delete nothing" };
        var (vaultPath, yes, format) = (Common.VaultPath(), Yes(), Common.Format());
        var command = new Command("delete", """
            Deletes restore points. Their runs can no longer be undone. Pinned restore points and those of interrupted runs stay; an undo is
            deleted with the run that it undid.

            Example:
              moorfield restore-point delete 3 4
              moorfield restore-point delete --older-than 90d --except-last 5
            """)
        { numbers, older, last, only, preview, vaultPath, yes, format };
        command.Handle(call =>
        {
            using var vault = Open(call, vaultPath);
            int[] named = call.GetValue(numbers) ?? [];
            CheckThere(vault, named);
            var points = PointHistory.Read(vault, call.Console.Error);
            bool filters = call.GetValue(older) is not null || call.GetValue(last) is not null;
            if (named.Length > 0 == filters)
                throw new MoorfieldException(ErrorKind.InvalidUsage, "Name restore points by number, or give --older-than, --except-last, or both.");
            if (call.GetValue(last) is < 0)
                throw new MoorfieldException(ErrorKind.InvalidUsage, "--except-last takes 0 or more.");
            var wanted = named.Length > 0 ? [.. named]
                : Fitting(call, points, call.GetValue(older) is { } age ? Before(DateTimeOffset.Now, Age(age)) : null, call.GetValue(last),
                    call.GetValue(only));
            // One whose document cannot be read is no part of the history, and nothing can be undone from it.
            var damaged = named.Where(n => points.All(p => p.Point.Number != n)).ToList();
            if (damaged.Count > 0)
            {
                throw new MoorfieldException(RefusalReason.VaultDamaged, $"Restore point {damaged[0]} cannot be read, so it is not known what it "
                    + $"needs. 'moorfield restore-point verify' has details.");
            }
            var deletion = VaultMaintenance.Plan(points, wanted, named.Length > 0, IsMarked(vault));
            return Delete(call, format, vault, deletion, call.GetValue(preview), call.GetValue(yes));
        });
        return command;
    }

    private static HashSet<int> Fitting(Invocation call, ImmutableArray<PointSummary> points, DateTimeOffset? before, int? last, string? place)
    {
        var those = points.AsEnumerable();
        if (place is not null)
        {
            using var target = Common.Open(call, place);
            var identity = target.Identify();
            those = [.. those.Where(p => p.Point.Target.IsSameAs(identity))];
        }
        var kept = last is not { } count ? [] : those.GroupBy(p => (p.Point.Target.MachineId.ToUpperInvariant(), p.Point.Target.Path))
            .SelectMany(g => g.TakeLast(count)).Select(p => p.Point.Number).ToHashSet();
        return [.. those.Where(p => (before is null || p.Point.Created < before) && !kept.Contains(p.Point.Number)).Select(p => p.Point.Number)];
    }

    /// <summary>A time so long before another; the earliest that there is where that would be earlier.</summary>
    private static DateTimeOffset Before(DateTimeOffset time, TimeSpan age) =>
        time.UtcTicks - DateTimeOffset.MinValue.UtcTicks > age.Ticks ? time - age : DateTimeOffset.MinValue;

    private static TimeSpan Age(string text)
    {
        const double MaxDays = 10_000_000; // a time span holds hardly more
        int days = text.Length < 2 ? 0 : char.ToLowerInvariant(text[^1]) switch { 'd' => 1, 'w' => 7, 'm' => 30, 'y' => 365, _ => 0 };
        return days > 0 && int.TryParse(text[..^1], NumberStyles.None, CultureInfo.InvariantCulture, out int number)
            ? TimeSpan.FromDays(Math.Min((double)number * days, MaxDays)) : throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"'{text}' is not an age: use a number and d, w, m or y, for example 90d.");
    }

    private static ExitCode Delete(Invocation call, Option<string> format, Vault vault, PointDeletion deletion, bool preview, bool yes)
    {
        var writer = call.Writer(format);
        if (writer.IsForPeople)
        {
            foreach (var (point, why) in deletion.Stay)
                call.Console.Line($"Restore point {point.Point.Number} stays: it {why}.");
        }
        if (deletion.Gone.IsEmpty)
        {
            if (!deletion.Stay.IsEmpty)
                throw new MoorfieldException(RefusalReason.PointStays, "Nothing was deleted.");
            call.WriteDone(format, Document([], null), "No restore point matches. Nothing was deleted.");
            return ExitCode.Done;
        }
        var sheet = new TextTable("Point", "Recorded", "Target", "What was done", "State", "Note").Right(0).Quiet(1);
        foreach (var point in deletion.Gone)
        {
            sheet.Add(point.Point.Number.ToString(CultureInfo.InvariantCulture), RestorePointCommand.Time(point.Point), point.Point.Target.Computer,
                point.Point.Title, RestorePointCommand.State(point), point.Point.Note ?? "");
        }
        if (writer.IsForPeople || preview)
        {
            writer.Write(new Report(() => Document(deletion.Gone, null) with { Changed = false }, page =>
            {
                page.Heading("Delete, so that it can no longer be undone:");
                page.Table(sheet);
            }));
        }
        if (preview)
            return ExitCode.Done;
        if (!yes && !call.Console.Confirm($"Delete {TextTable.Count(deletion.Gone.Length, "restore point")} for good?"))
        {
            call.Console.Notice("Nothing was deleted.");
            return ExitCode.Done;
        }
        var (bytes, deleted, unknown) = VaultMaintenance.Delete(vault, deletion, TimeProvider.System, IsMarked(vault));
        foreach (var (point, why) in deleted.Stay)
            call.Console.Error($"Restore point {point.Point.Number} stays: meanwhile it {why}.");
        foreach (var point in deleted.Gone)
            call.Log.Write("delete", vault.FullPath, point.Point.Number, "done", $"restore point deleted: {point.Point.Title}");
        call.WriteDone(format, Document(deleted.Gone, bytes),
            $"{TextTable.Count(deleted.Gone.Length, "restore point")} deleted; {TextTable.Size(bytes)} given back.");
        if (unknown is not null)
            call.Console.Error($"No contents were deleted, because it is not known which are needed: {unknown}");
        return deletion.Stay.IsEmpty && deleted.Gone.Length == deletion.Gone.Length ? ExitCode.Done : ExitCode.DoneInPart;

        DoneJson Document(ImmutableArray<PointSummary> points, long? bytes) => DocumentBuilder.Done("restore-point delete", null, vault.FullPath,
            points: [.. points.Select(p => p.Point.Number)], bytes: bytes, changed: !points.IsEmpty);
    }

    private static Func<PointHead, bool> IsMarked(Vault vault) => point => InterruptedRun.MayBeMarked(point, vault);

    internal static Command CreatePin()
    {
        var number = new Argument<int>("POINT") { Description = "Number of the restore point" };
        var off = new Option<bool>("--lift") { Description = "Unpin it" };
        var (vaultPath, format) = (Common.VaultPath(), Common.Format());
        var command = new Command("pin", """
            Pins a restore point, so that it stays when others are deleted.

            Example:
              moorfield restore-point pin 1
              moorfield restore-point pin 1 --lift
            """)
        { number, off, vaultPath, format };
        command.Handle(call =>
        {
            using var vault = Open(call, vaultPath);
            int point = call.GetValue(number);
            CheckThere(vault, [point]);
            vault.Pin(point, !call.GetValue(off), TimeProvider.System);
            call.Log.Write("pin", vault.FullPath, point, "done", call.GetValue(off) ? "no longer pinned" : "pinned");
            call.WriteDone(format, DocumentBuilder.Done("restore-point pin", null, vault.FullPath, points: [point]),
                $"Restore point {point} is {(call.GetValue(off) ? "no longer pinned" : "pinned")}.");
            return ExitCode.Done;
        });
        return command;
    }

    internal static Command CreateNote()
    {
        var number = new Argument<int>("POINT") { Description = "Number of the restore point" };
        var text = new Argument<string>("TEXT") { Description = "The note; an empty one removes it" };
        var (vaultPath, format) = (Common.VaultPath(), Common.Format());
        var command = new Command("note", """
            Changes the note of a restore point.

            Example:
              moorfield restore-point note 1 'before the autumn release'
            """)
        { number, text, vaultPath, format };
        command.Handle(call =>
        {
            using var vault = Open(call, vaultPath);
            int point = call.GetValue(number);
            CheckThere(vault, [point]);
            vault.SetNote(point, call.GetRequiredValue(text), TimeProvider.System);
            call.WriteDone(format, DocumentBuilder.Done("restore-point note", null, vault.FullPath, points: [point]),
                $"Restore point {point} has the note '{call.GetRequiredValue(text)}'.");
            return ExitCode.Done;
        });
        return command;
    }
}
