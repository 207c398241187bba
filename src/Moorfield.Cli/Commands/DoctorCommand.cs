namespace Moorfield.Cli.Commands;

/// <summary>Tries the parts that Moorfield needs of this machine, and says whether a target can be read and changed.</summary>
internal static class DoctorCommand
{
    private static readonly Argument<string?> TargetPath = new("TARGET")
    {
        Description = "Also say whether this target can be read and changed", Arity = ArgumentArity.ZeroOrOne,
    };
    private static readonly Option<string?> VaultPath = Common.VaultPath();
    private static readonly Option<string> Format = Common.Format(hasRows: true);

    internal static Command Create()
    {
        var command = new Command("doctor", """
            Tries each part that Moorfield needs of this machine, and says what for where one does not work. With a target, also says whether it
            can be read and changed, and why not. In the vault's folder, a file is made and deleted again; nothing else is changed. Exit code 4
            if a part does not work that is always needed, or the target cannot be read.

            Example:
              moorfield doctor
              moorfield doctor /mnt/counter-07
            """)
        { TargetPath, VaultPath, Format, Common.ReportFile };
        command.Handle(Run, checksMachine: false);
        return command;
    }

    private static ExitCode Run(Invocation call)
    {
        var parts = MachineCheck.Try(Vault.ChoosePath(call.GetValue(VaultPath)));
        var target = call.GetValue(TargetPath) is { } path ? Look(call, path) : null;
        call.Write(Format, new Report(
            () => new DoctorJson("moorfield.doctor/1",
                [.. parts.Select(p =>
                    new MachinePartJson(p.Name, p.Use, p.IsNeeded, p.Fault is null, p.Version, p.Path, p.Fault, p.Package))], target),
            page => Show(page, parts, target),
            () => new ReportRows(["name", "use", "needed", "works", "version", "path", "fault", "package"], parts.Select(p => new[]
            {
                p.Name, p.Use, ReportRows.Flag(p.IsNeeded), ReportRows.Flag(p.Fault is null), p.Version, p.Path, p.Fault ?? "", p.Package,
            }))));
        return parts.Any(p => p is { IsNeeded: true, Fault: not null }) || target is { Read: not null } ? ExitCode.Differs : ExitCode.Done;
    }

    /// <summary>Opens and reads a target as commands do, and asks it whether it can be changed.</summary>
    private static MachineTargetJson Look(Invocation call, string path)
    {
        string? kind = null;
        try
        {
            using var fleet = Core.Fleets.Fleet.TryOpen(path);
            if (fleet is not null)
            {
                return new MachineTargetJson(path, fleet.Description, null,
                    $"{fleet.Name} is {fleet.Description}: 'hand-over' changes its machines.");
            }
            var (target, _) = Common.Read(call, path);
            using var open = target;
            kind = target.Description;
            return new MachineTargetJson(path, kind, null, WhyNotChangeable(target));
        }
        catch (MoorfieldException e)
        {
            return new MachineTargetJson(path, kind, e.Message, e.Message);
        }
    }

    private static string? WhyNotChangeable(Target target)
    {
        try
        {
            MachineCheck.CheckChangeable(target);
            return null;
        }
        catch (MoorfieldException e)
        {
            return e.Message;
        }
    }

    private static void Show(IReportPage page, ImmutableArray<MachinePart> parts, MachineTargetJson? target)
    {
        var sheet = new TextTable("Part", "State", "Version", "For", "Where").Quiet(4);
        foreach (var part in parts)
        {
            sheet.Add(part.Name, part.Fault is null ? "works" : part.IsNeeded ? "missing" : "missing, not always needed",
                part.Version.Length > 0 ? part.Version : DisplayText.Nothing, part.Use, part.Path.Length > 0 ? part.Path : DisplayText.Nothing);
        }
        page.Table(sheet);
        foreach (var part in parts.Where(p => p.Fault is not null))
        {
            page.Error($"{part.Name}: {part.Fault}{(part.Package.Length > 0 ? $" Its package here: {part.Package}." : "")} "
                + $"Without it, this does not work: {part.Use}.");
        }
        if (parts.All(p => p.Fault is null))
            page.Line("Everything works.");
        if (target is null)
            return;
        if (target.Read is { } why)
        {
            page.Error(why);
            return;
        }
        page.Line($"{target.Target} is {target.Kind}, and can be read{(target.Change is null ? " and changed" : "")}.");
        if (target.Change is { } unchangeable)
            page.Line($"It cannot be changed: {unchangeable}");
    }
}
