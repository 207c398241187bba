namespace Moorfield.Cli.Commands;

/// <summary>The list that <c>block TARGET</c> shows when no family is named.</summary>
internal static class BlockList
{
    /// <summary>One block in one system.</summary>
    /// <param name="Package">Null when it is not installed.</param>
    /// <param name="Since">When it was set, by the run that set it or else by its key.</param>
    private sealed record Block(SystemSnapshot Snapshot, PackageFamilyName Family, InstalledPackage? Package, DateTimeOffset? Since, PointHead? SetBy)
    {
        /// <summary>Somebody has it, or will get it, nevertheless.</summary>
        internal bool IsPresent => Package?.IsHeld == true;
    }

    /// <param name="file">Registry text to write as well; null for none.</param>
    internal static ExitCode Show(Invocation call, Option<string> format, string path, string[]? editions, string? vault, string? file)
    {
        IReadOnlyCollection<Guard> guards = file is null ? [] : KnownGuards.All;
        var (target, snapshots) = Common.Read(call, path, editions, guards);
        using var open = target;
        var history = new BlockHistory(Common.Points(call.Console, vault), target.Identify(snapshots[0]));
        var blocks = snapshots.SelectMany(s => s.Blocks.Select(family =>
        {
            var point = history.SetBy(family, s.EditionNumber);
            var package = s.Packages.Where(p => p.Family == family).OrderByDescending(p => p.IsHeld).FirstOrDefault();
            return new Block(s, family, package, point?.Created ?? s.BlockTimes.GetValueOrDefault(family), point);
        })).ToList();
        if (file is not null)
            WriteRegistry(call.Console, target, snapshots, file);
        call.Write(format, new Report(
            () => new BlocksJson("moorfield.blocks/1", target.Given, target.FullPath,
                    [.. blocks.Select(b =>
                    new BlockJson(b.Snapshot.EditionNumber, b.Family.ToString(), b.Package?.DisplayName, b.Package is not null, b.IsPresent, b.Since,
                    b.SetBy?.Number))],
                    [.. snapshots.SelectMany(s => s.StartBlocks.Select(b => new StartBlockJson(s.EditionNumber, DisplayText.Of(b.Kind), b.Name,
                        LeftoverText.Where(b.Location), BlockPlanner.ProgramOf(b, s))))]),
            page =>
            {
                foreach (var snapshot in snapshots)
                    WriteTable(page, target, snapshot, [.. blocks.Where(b => b.Snapshot == snapshot)]);
            },
            () => new ReportRows(["family", "displayName", "installed", "present", "since", "restorePoint", "edition"], blocks.Select(b => new[]
            {
                b.Family.ToString(), b.Package?.DisplayName ?? "", ReportRows.Flag(b.Package is not null), ReportRows.Flag(b.IsPresent),
                b.Since?.ToString("O", CultureInfo.InvariantCulture) ?? "",
                b.SetBy?.Number.ToString(CultureInfo.InvariantCulture) ?? "", b.Snapshot.EditionNumber?.ToString() ?? "",
            }))));
        return ExitCode.Done;
    }

    private static void WriteRegistry(ConsoleOutput console, Target target, IReadOnlyList<SystemSnapshot> snapshots, string file)
    {
        if (snapshots.Count > 1)
            throw new MoorfieldException(ErrorKind.InvalidUsage, "A registry text file describes one system: choose one with --edition.");
        var guards = GuardStates.Of(snapshots[0], KnownGuards.All, AudienceParser.Parse(["everyone"], snapshots[0]));
        var set = guards.GroupBy(g => g.Guard).Where(g => !g.Key.IsAbsence && g.All(s => s.IsSet)).Select(g => g.Key).ToList();
        NewFile.Write(file,
            RegistryExchange.Write($"Blocks and guards of {DisplayText.Place(target, snapshots[0])}, by moorfield", snapshots[0].Blocks, set));
        console.Notice($"{file} holds {TextTable.Count(snapshots[0].Blocks.Length, "block")} and {TextTable.Count(set.Count, "guard")}.");
    }

    private static void WriteTable(IReportPage page, Target target, SystemSnapshot snapshot, List<Block> blocks)
    {
        if (snapshot.EditionNumber is not null)
            page.Heading(DisplayText.Describe(snapshot));
        var sheet = new TextTable("Blocked family", "Here now", "Accounts", "Newcomers", "Since", "Set by").Quiet(4, 5);
        foreach (var block in blocks)
        {
            var package = block.Package;
            sheet.Add(
                block.Family.ToString(), package is null ? "no" : block.IsPresent ? $"still: {package.DisplayName}"
                : $"nobody has it: {package.DisplayName}",
                package is null ? DisplayText.Nothing : DisplayText.Accounts(package.Accounts, snapshot),
                package is null ? DisplayText.Nothing : package.Newcomers ? "still get it" : "do not get it",
                block.Since?.ToString("yyyy-MM-dd HH:mm", CultureInfo.InvariantCulture) ?? DisplayText.Nothing,
                block.SetBy is { } point ? $"restore point {point.Number}" : DisplayText.Nothing);
        }
        if (blocks.Count > 0)
            page.Table(sheet);
        page.Line($"{TextTable.Count(blocks.Count, "family", "families")} blocked on {DisplayText.Place(target, snapshot)}.");
        if (!snapshot.StartBlocks.IsEmpty)
        {
            var kept = new TextTable("Kept from starting for newcomers", "Here now");
            foreach (var block in snapshot.StartBlocks)
            {
                string? program = BlockPlanner.ProgramOf(block, snapshot);
                kept.Add($"{DisplayText.Of(block.Kind, false)}: {block.Name}", program is null ? "no" : $"still: {program}");
            }
            page.Table(kept);
        }
        var present = blocks.Where(b => b.IsPresent).Select(b => b.Package!.DisplayName).ToList();
        if (present.Count > 0)
            page.Line($"Blocked but present: {TextFormat.List(present)}. A block only keeps updates from provisioning a family; 'moorfield remove' "
                + $"removes the package.");
    }
}
