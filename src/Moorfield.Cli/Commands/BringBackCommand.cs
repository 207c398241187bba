namespace Moorfield.Cli.Commands;

internal static class BringBackCommand
{
    private static readonly Argument<string> TargetPath = Common.TargetArgument();
    private static readonly Argument<string[]> Packages = new("PACKAGE")
    {
        Description = "Display name, name, family name or full name; * allowed",
        Arity = ArgumentArity.OneOrMore,
    };

    private static readonly Option<string[]> For = new("--for")
    {
        Description = "Account names or SIDs, accounts (all), newcomers, or everyone",
        HelpName = "WHO",
        AllowMultipleArgumentsPerToken = true,
    };

    private static readonly Option<string[]> From = new("--from")
    {
        Description = "Another system, an image, a medium or a package file to take it from",
        HelpName = "OTHER",
    };

    private static readonly Option<string[]> Edition = Common.Edition();
    private static readonly Option<string?> FromEdition = new("--from-edition")
    {
        Description = "Edition of the image at --from (default: of the target's kind)",
        HelpName = "N|NAME",
    };

    internal static Command Create()
    {
        var command = new Command("bring-back", """
            Installs removed packages again: registers them for accounts and provisions them for newcomers, with everything they need. Takes
            them from their folders on the target, from another place, or from a restore point, and lifts their blocks and guards.

            Example:
              moorfield bring-back /mnt/counter-07 Films --for rowan
              moorfield bring-back /mnt/counter-07 'Shop Front' --for everyone --from counter-install.wim
              moorfield bring-back /mnt/counter-07 'Picture Viewer' --for ivy --from picture-viewer.msixbundle
            """)
        { TargetPath, Packages, For, From, Edition, FromEdition };
        SeveralTargets.AddTo(command);
        var options = new ChangeOptions(command, mustRecord: true);
        command.Handle(call => Run(call, options));
        return command;
    }

    private static ExitCode Run(Invocation call, ChangeOptions options)
    {
        using var target = options.Open(call, call.GetRequiredValue(TargetPath));
        using var vault = Vault.OpenExisting(options.VaultPath(call));
        if (vault is not null)
            target.OpenWithKey(vault);
        var guards = BringBackOperation.GuardsSet(vault, target.Identify());
        var snapshots = Common.Read(call.Console, target, call.GetValue(Edition), guards);
        _ = AudienceParser.Parse(call.GetValue(For) ?? [], snapshots[0]);
        var origins = ImmutableArray.CreateBuilder<BringBackSource>();
        try
        {
            foreach (string path in call.GetValue(From) ?? [])
            {
                if (!Path.Exists(path))
                    throw new MoorfieldException(ErrorKind.InvalidUsage, $"{path} does not exist. Name another system, an image or a package file.");
                origins.Add(new BringBackSource(path, PackageArchive.HasPackageExtension(path) && File.Exists(path) ? null : Common.Open(call, path),
                    call.GetValue(FromEdition)));
            }
            return Run(call, options, new BringBackOperation(
                target, snapshots, call.GetRequiredValue(Packages), call.GetValue(For) ?? [], origins.ToImmutable(), vault, guards));
        }
        finally
        {
            foreach (var origin in origins)
                origin.Other?.Dispose();
        }
    }

    private static ExitCode Run(Invocation call, ChangeOptions options, BringBackOperation bringing)
    {
        var target = bringing.Target;
        var proposal = bringing.Plan();
        if (!proposal.HasEffect)
        {
            foreach (string note in proposal.Plans.SelectMany(p => p.Notes).Distinct(StringComparer.Ordinal))
                call.Console.Line(note);
            call.Console.Notice("They have it already. Nothing was changed.");
            return ExitCode.Done;
        }
        var notes = proposal.Plans.SelectMany(p => p.Notes).Distinct(StringComparer.Ordinal).ToList();
        return options.CarryOut(
            call, bringing, proposal,
            DocumentBuilder.Plan(target, "bringBack",
                proposal.Plans.SelectMany(p => p.Packages).Select(p => p.FullName.Family.ToString()), proposal.Request.Changes, null),
            page =>
            {
                foreach (var plan in proposal.Plans)
                    ShowPreview(page, DisplayText.Place(target, plan.Snapshot), plan);
                notes.ForEach(n => page.Line(n));
            },
            (page, outcome) =>
            {
                var brought = proposal.Plans.SelectMany(p => p.Packages).Where(p => p.NeededBy is null).Select(p => p.DisplayName)
                    .Distinct(StringComparer.Ordinal).ToList();
                page.Line(!outcome.Verified ? "Some of it is not there as planned."
                    : $"{TextFormat.List(brought, 3)} {(brought.Count == 1 ? "is" : "are")} back on {target.Name}; verified: "
                        + $"{TextTable.Count(outcome.Changes, "change")} as planned.");
            });
    }

    private static void ShowPreview(IReportPage page, string place, BringBackPlan plan)
    {
        page.Heading($"Bring back on {place}:");
        var sheet = new TextTable("Package", "Version", "For", "From", "Files", "Lifted", "Needed by").Right(4).Quiet(1);
        foreach (var package in plan.Packages)
        {
            var lifted = (package.Unblocks ? ["block"] : Array.Empty<string>()).Concat(package.Guards
                .Select(g => $"guard {g.Guard.Title}").Distinct(StringComparer.Ordinal));
            sheet.Add(
                package.DisplayName, package.FullName.Version.ToString(),
                DisplayText.OrNothing(DisplayText.Names(package.Sids, plan.Snapshot)
                    .Concat(package.Newcomers ? ["newcomers"] : Array.Empty<string>())),
                package.From ?? "its folder there", package.Bytes == 0 ? DisplayText.Nothing : TextTable.Size(package.Bytes),
                    DisplayText.OrNothing(lifted),
                package.NeededBy ?? DisplayText.Nothing);
        }
        page.Table(sheet);
    }
}
