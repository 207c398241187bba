namespace Moorfield.Cli.Commands;

/// <summary>The options of commands that plan a removal and write something new: packages, how they are chosen, preview, costs.</summary>
internal sealed class WriteOptions
{
    private readonly Argument<string[]> _packages = new("PACKAGE")
    {
        Description = "Display name, name, family name or full name, or the name of a desktop program; * allowed",
        Arity = ArgumentArity.ZeroOrMore,
    };

    private readonly FilterOptions _filters;
    private readonly Option<string?> _maker = Common.Maker();
    private readonly Option<string> _kind = Common.Kind();
    private readonly Option<bool> _allowReturn = new("--allow-return") { Description = "Set no block; an update may bring it back" };
    private readonly Option<bool> _acceptCosts = new("--accept-costs") { Description = "Accept the costs of the removal; needed with --yes" };

    private readonly Option<bool> _preview = new("--preview") { Description = "Show what would be written and write nothing" };
    private readonly Option<bool> _yes = new("--yes", "-y") { Description = "Do not ask for confirmation" };
    private readonly Option<string?> _vault = Common.VaultPath();
    private readonly Option<string> _format = Common.Format();

    /// <param name="severalBriefs">True if the command takes several briefs.</param>
    internal WriteOptions(Command command, bool severalBriefs = false)
    {
        command.Add(_packages);
        _filters = new FilterOptions(command, forChange: true);
        Brief = new BriefOptions(command, lenient: true, several: severalBriefs);
        foreach (var option in new Option[] { _maker, _kind, _allowReturn, _acceptCosts, _preview, _yes, _vault, _format })
            command.Add(option);
    }

    internal BriefOptions Brief { get; }

    internal string? Maker(Invocation call) => call.GetValue(_maker);

    internal bool IsPreview(Invocation call) => call.GetValue(_preview);

    internal IReportWriter Writer(Invocation call) => call.Writer(_format);

    internal string VaultPath(Invocation call) => Vault.ChoosePath(call.GetValue(_vault));

    /// <summary>The removals that are wanted in systems: of what is named or chosen, or of what a brief says; null when nobody says it.</summary>
    /// <param name="words">For whom.</param>
    /// <exception cref="MoorfieldException">It is said in several ways, or a name fits nothing.</exception>
    internal Func<ImmutableArray<SystemSnapshot>, IEnumerable<RemovalRequest>>? Requests(
        Invocation call, Brief? brief, IReadOnlyCollection<string> words)
    {
        var conditions = _filters.Read(call, call.GetValue(_packages));
        string kind = Common.KindOf(call, _kind, conditions);
        string[] keep = _filters.Keep(call);
        if (!conditions.IsEmpty && brief is not null)
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                "Say which packages go either by name and by options such as --origin, or by --brief FILE.");
        if (conditions.IsEmpty && brief is null && keep.Length > 0)
            throw new MoorfieldException(ErrorKind.InvalidUsage, "--keep names packages that stay. Say which packages go, too.");
        if (conditions.IsEmpty && brief is null)
            return null;
        bool allowsReturn = call.GetValue(_allowReturn), told = false;
        return systems =>
        {
            if (!told && kind != "desktop" && PackageSelector.Spared(conditions, systems) is { IsEmpty: false } spared)
                call.Console.Notice(RemovalText.Spared(spared));
            told = true;
            var requests = brief is not null ? systems.Select(s => BriefPlanner.ToRequest(brief, s, words, allowsReturn))
                : ProgramSelector.Choose(conditions, kind, systems).Zip(systems, (chosen, s) =>
                    new RemovalRequest(chosen.Packages, AudienceParser.Parse(words, s)) { Programs = chosen.Programs });
            return Common.Keeping(requests, keep, systems).Select(r => r with { AllowReturn = allowsReturn });
        };
    }

    /// <summary>True if packages were named.</summary>
    internal bool NamesPackages(Invocation call) => call.GetValue(_packages) is { Length: > 0 };

    /// <summary>True if no block is to be set.</summary>
    internal bool AllowsReturn(Invocation call) => call.GetValue(_allowReturn);

    /// <summary>A brief to which the names of --keep are added, as rules that keep.</summary>
    /// <exception cref="MoorfieldException">There is no brief, or packages are named as well.</exception>
    internal Brief OnlyBrief(Invocation call, Brief? brief) =>
        brief is null || !_filters.Read(call, call.GetValue(_packages)).IsEmpty || Common.KindOf(call, _kind, PackageConditions.None) != "app"
            ? throw new MoorfieldException(ErrorKind.InvalidUsage, "A plan for many machines is made by a brief: give --brief FILE, and no packages.")
            : brief with
            {
                Keep = [.. brief.Keep, .. _filters.Keep(call).Select(n => new BriefRule("--keep", new PackageConditions { Names = [n] }))],
            };

    /// <summary>True if it is to be written, as a person says now or has said already.</summary>
    /// <param name="costs">A few words each.</param>
    /// <exception cref="MoorfieldException">It costs something, and nobody can be asked.</exception>
    internal bool IsConfirmed(Invocation call, ImmutableArray<string> costs, string question)
    {
        bool accepted = call.GetValue(_acceptCosts) || costs.IsEmpty;
        if (call.GetValue(_yes))
        {
            return accepted ? true : throw new MoorfieldException(RefusalReason.CostsNotAccepted,
                $"This costs something: {TextFormat.List(costs)}. Look at --preview, and add --accept-costs to --yes if it is worth it. "
                    + "Nothing was written.");
        }
        if (call.Console.Confirm(question)
            && (accepted || call.Console.Confirm($"This costs something: {TextFormat.List(costs)}. Continue anyway?")))
            return true;
        call.Console.Notice("Nothing was written.");
        return false;
    }
}
