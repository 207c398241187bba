using Moorfield.Reporting.Pages;

namespace Moorfield.Cli.Commands;

internal static class CompareCommand
{
    private static readonly Argument<string> BeforePath = new("BEFORE") { Description = "Any kind of target", HelpName = "BEFORE" };
    private static readonly Argument<string?> AfterPath = new("AFTER")
    {
        HelpName = "AFTER | POINT",
        Arity = ArgumentArity.ZeroOrOne,
        Description = "Another target; or the number of a recorded state of the first, to show what happened since",
    };
    private static readonly Option<DateTime?> Since = Common.Day("--since", "What changed in a fleet store since this day; instead of AFTER");
    private static readonly Option<string?> Machine = new("--machine") { Description = "What changed on this machine of a fleet store; instead of "
        + "AFTER", HelpName = "NAME" };
    private static readonly Option<string?> BeforeEdition = new("--before-edition") { Description = "Only this edition of BEFORE",
        HelpName = "N|NAME" };
    private static readonly Option<string?> AfterEdition = new("--after-edition") { Description = "Only this edition of AFTER", HelpName = "N|NAME" };
    private static readonly Option<bool> All = new("--all") { Description = "Also frameworks, resources and components" };
    private static readonly Option<string?> VaultPath = Common.VaultPath();
    private static readonly Option<string> Format = Common.Format(hasRows: true);

    internal static Command Create()
    {
        var command = new Command("compare", """
            Shows what differs between two targets, two editions, or inventories saved before and after something happened; between two folders
            of surveys, in a fleet store since a day, on how many machines; or on one machine of a store, day by day.

            Example:
              moorfield inventory /mnt/counter-07 --format saved --to before.saved
              moorfield compare before.saved /mnt/counter-07
              moorfield compare counter-install.wim counter-install.wim --before-edition 1 --after-edition 2
              moorfield compare /mnt/counter-07 3
              moorfield compare surveys-october surveys-november
              moorfield compare counters.fleet --since 2026-11-20
              moorfield compare counters.fleet --machine COUNTER-03
            """)
        { BeforePath, AfterPath, Since, Machine, BeforeEdition, AfterEdition, All, VaultPath, Format, Common.ReportFile };
        command.Handle(Run);
        return command;
    }

    /// <summary>Shows the changes in a store since a day, or the changes on one of its machines.</summary>
    private static ExitCode ComparePast(Invocation call, string path, DateTimeOffset? since, string? machine)
    {
        string option = machine is null ? "--since" : "--machine";
        if (call.GetValue(AfterPath) is not null || call.GetValue(BeforeEdition) is not null || call.GetValue(AfterEdition) is not null)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{option} compares a fleet store with itself: omit the other target and editions.");
        using var store = Core.Fleets.FleetStore.TryOpen(path)
            ?? throw new MoorfieldException(ErrorKind.InvalidUsage, $"{option} is for a fleet store, which {path} is not.");
        return machine is null ? FleetDifferences.ShowSince(call, Format, store, since!.Value, call.GetValue(All))
            : MachineHistory.Show(call, Format, store, machine, since, call.GetValue(All));
    }

    private static ExitCode Run(Invocation call)
    {
        string first = call.GetRequiredValue(BeforePath);
        var (since, machine) = (Common.Time(call, Since), call.GetValue(Machine));
        if (since is not null || machine is not null)
            return ComparePast(call, first, since, machine);
        string second = call.GetValue(AfterPath)
            ?? throw new MoorfieldException(ErrorKind.InvalidUsage,
                "Name what to compare it with, or for a fleet store --since DAY or --machine NAME.");
        using var earlier = Core.Fleets.Fleet.TryOpen(first);
        using var later = Core.Fleets.Fleet.TryOpen(second);
        if (earlier is not null && later is not null)
        {
            return call.GetValue(BeforeEdition) is null && call.GetValue(AfterEdition) is null
                ? FleetDifferences.Show(call, Format, earlier, later, call.GetValue(All))
                : throw new MoorfieldException(ErrorKind.InvalidUsage,
                    "Fleets have no editions. Omit --before-edition and --after-edition.");
        }
        if ((earlier ?? later) is { } only)
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"{only.Name} is {only.Description}, and is compared with another fleet. Name a survey to compare one machine.");
        if (IsPoint(first))
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"The target comes first: {TextFormat.Command("compare", second, first)}.");
        if (IsPoint(second))
            (first, second) = (second, first);
        var (target, snapshots) = Common.Read(call, second, call.GetValue(AfterEdition) is { } edition ? [edition] : null);
        using var open = target;
        ImmutableArray<ComparedSystem> after = [.. snapshots.Select(ComparedSystem.Of)];
        var before = Read(call, first, call.GetValue(BeforeEdition), target);
        var pairs = Pairs(before, after).Select(p => (p.Before, p.After, Comparison: Comparison.Of(p.Before, p.After))).ToList();
        call.Write(Format, new Report(
            () => DocumentBuilder.Comparison((first, Full(call, first)), (second, Full(call, second)), pairs),
            page =>
            {
                for (int i = 0; i < pairs.Count; i++)
                {
                    if (i > 0)
                        page.Line();
                    Show(page, call, pairs[i].Before, pairs[i].After, pairs[i].Comparison);
                }
            },
            () => new ReportRows(["kind", "family", "displayName", "architecture", "before", "after", "gained", "lost", "newcomers", "bytes",
                "edition"],
                    pairs.SelectMany(p => p.Comparison.Packages.Select(d => new[]
                {
                    DisplayText.Of(d.Kind), d.Family, d.DisplayName, d.Architecture, d.Before?.ToString() ?? "", d.After?.ToString() ?? "",
                    DisplayText.Joined(d.Gained), DisplayText.Joined(d.Lost),
                    d.Newcomers?.ToString().ToLowerInvariant() ?? "", d.Bytes.ToString(), p.After.Edition?.ToString() ?? "",
                })))));
        return ExitCode.Done;
    }

    /// <summary>The absolute path; of a restore point that of its vault.</summary>
    private static string Full(Invocation call, string text) => Path.GetFullPath(IsPoint(text) ? Vault.ChoosePath(call.GetValue(VaultPath)) : text);

    private static bool IsPoint(string text) => int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out _) && !Path.Exists(text);

    /// <param name="other">The target that it is compared with, whose key may open a restore point.</param>
    private static ImmutableArray<ComparedSystem> Read(Invocation call, string path, string? edition, Target other)
    {
        if (IsPoint(path))
        {
            int number = int.Parse(path, CultureInfo.InvariantCulture);
            string vaultPath = Vault.ChoosePath(call.GetValue(VaultPath));
            using var vault = Vault.OpenExisting(vaultPath)
                ?? throw new MoorfieldException(ErrorKind.InvalidUsage, $"There is no vault at {vaultPath}. Name another with --vault.");
            other.OpenWithKey(vault);
            using var recorded = new RecordedTarget(vault, vault.Read(number));
            return [.. Common.Read(call.Console, recorded, edition is null ? null : [edition]).Select(ComparedSystem.Of)];
        }
        var (target, snapshots) = Common.Read(call, path, edition is null ? null : [edition]);
        using var open = target;
        return [.. snapshots.Select(ComparedSystem.Of)];
    }

    /// <summary>One with one; else editions of the same name, or of the same number where names differ.</summary>
    private static List<(ComparedSystem Before, ComparedSystem After)> Pairs(ImmutableArray<ComparedSystem> before,
        ImmutableArray<ComparedSystem> after)
    {
        if (before.Length == 1 && after.Length == 1)
            return [(before[0], after[0])];
        var pairs = after.Select(a =>
            (Before: before.FirstOrDefault(b => b.Name.Equals(a.Name, StringComparison.OrdinalIgnoreCase)), After: a)).ToList();
        var lonely = before.Except(pairs.Select(p => p.Before!)).Select(b => b.Name)
            .Concat(pairs.Where(p => p.Before is null).Select(p => p.After.Name)).ToList();
        return lonely.Count == 0
            ? [.. pairs.Select(p => (p.Before!, p.After))]
            : throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"These have no counterpart of the same name: {string.Join(", ", lonely)}. Choose editions with --before-edition and "
                    + $"--after-edition.");
    }

    private static void Show(IReportPage page, Invocation call, ComparedSystem before, ComparedSystem after, Comparison comparison)
    {
        page.Heading($"{Name(before)}, build {before.Build}, and {Name(after)}, build {after.Build}");
        if (!comparison.IsEmpty)
            ShowTotals(page, before.Totals, after.Totals);
        var shown = comparison.Packages.Where(d => call.GetValue(All)
            || d.Role is nameof(PackageRole.Application) or nameof(PackageRole.Addon)).ToList();
        var sheet = new TextTable("Change", "Package", "Before", "After", "Accounts", "Newcomers", "Bytes").Right(6).Quiet(2);
        foreach (var difference in shown)
        {
            sheet.Add(
                DisplayText.Of(difference.Kind), difference.DisplayName, difference.Before?.ToString() ?? DisplayText.Nothing,
                difference.After?.ToString()
                ?? DisplayText.Nothing,
                DisplayText.OrNothing(difference.Gained.Select(a => $"+{a}").Concat(difference.Lost.Select(a => $"-{a}"))),
                difference.Newcomers switch { true => "get it now", false => "no longer", null => DisplayText.Nothing },
                difference.Bytes == 0 ? DisplayText.Nothing : $"{(difference.Bytes < 0 ? "-" : "+")}{TextTable.Size(Math.Abs(difference.Bytes))}");
        }
        if (shown.Count > 0)
        {
            page.Heading("What differs");
            page.Table(sheet);
        }
        foreach (var (what, families) in new[] { ("Blocked now", comparison.Blocked), ("No longer blocked", comparison.Unblocked) })
        {
            if (!families.IsEmpty)
                page.Line($"{what}: {TextFormat.List(families, families.Length)}.");
        }
        long bytes = comparison.Packages.Sum(d => d.Bytes);
        int hidden = comparison.Packages.Length - shown.Count;
        if (comparison.IsEmpty)
        {
            page.Line("Nothing differs.");
            return;
        }
        string others = TextTable.Count(hidden, "framework, resource or component", "frameworks, resources and components");
        string notShown = hidden == 0 ? "" : $" Not shown: {others}; --all shows {(hidden == 1 ? "it" : "them")}.";
        page.Line($"{TextTable.Count(shown.Count, "package")} {(shown.Count == 1 ? "differs" : "differ")}; in total "
            + $"{TextTable.Size(Math.Abs(bytes))} "
            + $"{(bytes < 0 ? "less" : "more")}.{notShown}");
    }

    /// <summary>Shows both systems in numbers: a table and, on a page that can draw, two small plots.</summary>
    private static void ShowTotals(IReportPage page, SystemTotals before, SystemTotals after)
    {
        (string Name, int Before, int After)[] counts =
        [
            ("Packages", before.Packages, after.Packages), ("At start-up", before.StartWithWindows, after.StartWithWindows),
            ("In background", before.RunInBackground, after.RunInBackground), ("Newcomers get", before.Newcomers, after.Newcomers),
        ];
        var (sizeBefore, sizeAfter) = (TextTable.Size(before.Bytes), TextTable.Size(after.Bytes));
        var sheet = new TextTable("In numbers", "Before", "After", "Change").Right(1, 2, 3);
        foreach (var (name, was, now) in counts)
            sheet.Add(name, $"{was}", $"{now}", now == was ? DisplayText.Nothing : $"{now - was:+0;-0}");
        long more = after.Bytes - before.Bytes;
        sheet.Add("Size, with frameworks", sizeBefore, sizeAfter,
            more == 0 ? DisplayText.Nothing : $"{(more < 0 ? "-" : "+")}{TextTable.Size(Math.Abs(more))}");
        page.Table(sheet);
        page.Plot(new BarPlot("Packages", [.. counts.Select(c => new BarPair(c.Name, new(c.Before, $"{c.Before}"), new(c.After, $"{c.After}")))]));
        page.Plot(new BarPlot("Size", [new BarPair("All packages", new(before.Bytes, sizeBefore), new(after.Bytes, sizeAfter))]));
    }

    private static string Name(ComparedSystem system) => system.Edition is { } number ? $"edition {number} ({system.Name})" : system.Name;
}
