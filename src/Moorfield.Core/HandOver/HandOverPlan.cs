using System.Security.Cryptography;
using System.Text.RegularExpressions;
using Moorfield.Core.Layout;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;

namespace Moorfield.Core.HandOver;

/// <summary>Says when a script makes a restore point of the system before it changes anything.</summary>
public enum SystemRestorePoint
{
    /// <summary>If that can be had; what came of it is reported.</summary>
    Try,
    /// <summary>Without one nothing is changed.</summary>
    Require,
    /// <summary>None is made.</summary>
    None,
}

/// <summary>A package that goes from running machines, in whatever version they have.</summary>
/// <param name="Title">For people.</param>
/// <param name="IsPart">True if it may be a part of the system: it was named exactly.</param>
public sealed record HandOverPackage(PackageFamilyName Family, string Title, bool IsPart);

/// <summary>A value in the registry of new accounts that keeps a desktop program from installing itself for them.</summary>
/// <param name="Title">Of the program, for people.</param>
/// <param name="Key">From the hive's root down.</param>
/// <param name="Value">A text or bytes; null if the value must not be there.</param>
public sealed record NewcomerValue(string Title, string Key, string Name, HiveValue? Value);

/// <summary>A family that stays on machines though others lose it.</summary>
/// <param name="With">Only where this family is, which would go with it; null where it stays in any case.</param>
public sealed record HandOverStay(PackageFamilyName Family, PackageFamilyName? With);

/// <summary>The wanted state of running machines: a plan without the one system that it was made for.</summary>
/// <param name="Accounts">Names or SIDs; <c>*</c> for all that a machine has.</param>
/// <param name="Newcomers">True if it is for accounts that do not exist yet.</param>
/// <param name="Keep">Families that stay whatever a list says that is fetched later.</param>
/// <param name="Programs">Desktop programs of the machine, and of accounts, whose own silent removal is run.</param>
public sealed partial record HandOverPlan(
    ImmutableArray<string> Accounts, bool Newcomers, ImmutableArray<HandOverPackage> Remove, ImmutableArray<PackageFamilyName> Keep,
    ImmutableArray<PackageFamilyName> Block, ImmutableArray<Guard> Guards, ImmutableArray<DesktopProgram> Programs)
{
    /// <summary>The word for all accounts of a machine.</summary>
    public const string AllAccounts = "*";

    /// <summary>Values that keep desktop programs from installing themselves for new accounts.</summary>
    public ImmutableArray<NewcomerValue> NewcomerValues { get; init; } = [];

    /// <summary>Families that stay, somewhere or everywhere, though a rule means them.</summary>
    public ImmutableArray<HandOverStay> Stays { get; init; } = [];

    /// <summary>Rules that scripts go by as well, to tell what nobody looked at.</summary>
    public ImmutableArray<HandOverRule> Rules { get; init; } = [];

    /// <summary>True if scripts tell which apps no rule names.</summary>
    public bool TellsUnlisted { get; init; }

    /// <summary>Minutes after which a script begins nothing new, 1 to 1440.</summary>
    public int Minutes { get; init; } = 50;

    /// <summary>How it is about restore points of the system.</summary>
    public SystemRestorePoint RestorePoint { get; init; }

    /// <summary>The https address of a list that scripts fetch; null when they hold it themselves.</summary>
    public string? ListAddress { get; init; }

    /// <summary>The https or http address of a proxy by which they fetch it; null for the machine's own settings.</summary>
    public string? Proxy { get; init; }

    /// <summary>
    /// What the plans of one brief have in common, its file's name: a later one takes over from the earlier ones on a machine. Empty when there is
    /// no brief.
    /// </summary>
    public string Series { get; init; } = "";

    /// <summary>True if scripts mount the registry of signed-out accounts to set their guards; otherwise they wait until these sign in.</summary>
    public bool MountsSignedOut { get; init; }

    /// <summary>This plan with the settings of another one: how scripts go about it.</summary>
    public HandOverPlan With(HandOverPlan settings) => this with
    {
        Minutes = settings.Minutes, RestorePoint = settings.RestorePoint, ListAddress = settings.ListAddress, Proxy = settings.Proxy,
        MountsSignedOut = settings.MountsSignedOut,
    };

    /// <summary>True if there is nothing to do anywhere.</summary>
    public bool IsEmpty => Remove.IsEmpty && Block.IsEmpty && Guards.IsEmpty && Programs.IsEmpty && NewcomerValues.IsEmpty && ListAddress is null;

    /// <param name="words">Of WHO.</param>
    /// <param name="plans">For the systems of a target.</param>
    /// <param name="brief">That the plans follow; null for none.</param>
    /// <exception cref="MoorfieldException">It cannot be handed over.</exception>
    public static HandOverPlan Of(IReadOnlyCollection<string> words, ImmutableArray<SystemPlan> plans, Brief? brief)
    {
        var union = new HandOverUnion(brief);
        foreach (var plan in plans)
            union.Add(plan);
        return union.Plan(words, isFleet: false);
    }

    /// <summary>Refuses what the system's shell cannot be given safely.</summary>
    internal void Check()
    {
        foreach (var family in Remove.Select(r => r.Family).Concat(Keep).Concat(Block)
            .Concat(Stays.Select(s => s.With ?? s.Family)).Where(f => !IsProper(f)))
            throw new MoorfieldException(RefusalReason.NotHandedOver, 
                $"'{family}' has characters that no family name has, so it is not handed over. Nothing was written.");
        foreach (var (title, place) in Programs.Select(p => (p.Name, p.Key!)).Concat(NewcomerValues.Select(v => (v.Title, v.Key + v.Name)))
            .Where(p => IsMisread(p.Item2)))
            throw new MoorfieldException(RefusalReason.NotHandedOver,
                $"The program {title} is registered under a name with one of * ? [ ] | \", which the system's shell would misread. "
                    + "Nothing was written.");
        foreach (var guard in Guards)
        {
            if (IsMisread(guard.Key + guard.Value.Name))
                throw new MoorfieldException(RefusalReason.NotHandedOver,
                    $"The guard {guard.Describe()} has one of * ? [ ] | \" in its name, which the system's shell would misread. "
                        + "Nothing was written.");
            if (KindOf(guard.Value) is null)
                throw new MoorfieldException(RefusalReason.NotHandedOver,
                    $"The guard {guard.Describe()} has data that cannot be handed over. Nothing was written.");
        }
    }

    /// <summary>True if a family has only letters that family names have.</summary>
    internal static bool IsProper(PackageFamilyName family) => ProperFamily().IsMatch(family.ToString());

    private static bool IsMisread(string place) => place.Any(c => char.IsControl(c) || "*?[]|\"".Contains(c, StringComparison.Ordinal));

    /// <summary>The words of WHO without the accounts of one system.</summary>
    internal static (ImmutableArray<string> Accounts, bool Newcomers) ParseAudience(IReadOnlyCollection<string> words)
    {
        var all = words.SelectMany(w => w.Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)).ToList();
        bool Has(string word) => all.Contains(word, StringComparer.OrdinalIgnoreCase);
        bool newcomers = Has("everyone") || Has("newcomers") || all.Count == 0; // none are given only on an image, which has newcomers alone
        return Has("everyone") || Has("accounts") ? ([AllAccounts], newcomers)
            : ([.. all.Where(w => !w.Equals("newcomers", StringComparison.OrdinalIgnoreCase)).Distinct(StringComparer.OrdinalIgnoreCase)], newcomers);
    }

    /// <summary>The shell's name for the type of a value; null for one that guards do not have.</summary>
    internal static string? KindOf(HiveValue value) => value.Type switch
    {
        HiveValueType.DWord when value.AsDWord() is not null => "DWord",
        HiveValueType.QWord when value.Data.Length == sizeof(ulong) && BitConverter.ToInt64(value.Data.Span) >= 0 => "QWord",
        HiveValueType.String => "String",
        HiveValueType.ExpandString => "ExpandString",
        HiveValueType.MultiString => "MultiString",
        _ => null,
    };

    /// <summary>The plan as the shell's literals, for scripts that hold it.</summary>
    internal IEnumerable<string> Data()
    {
        string[] lines =
        [
            $"$Series = {PowerShellLiteral.Of(Series)}",
            $"$Accounts = {PowerShellLiteral.List(Accounts.Select(PowerShellLiteral.Of))}",
            $"$Newcomers = {PowerShellLiteral.Of(Newcomers)}",
            $"$Remove = {PowerShellLiteral.List(Remove.Select(r => PowerShellLiteral.Table(
                ("Family", PowerShellLiteral.Of(r.Family.ToString())), ("Title", PowerShellLiteral.Of(r.Title)),
                ("Part", PowerShellLiteral.Of(r.IsPart)))))}",
            $"$Keep = {PowerShellLiteral.List(Keep.Select(f => PowerShellLiteral.Of(f.ToString())))}",
            $"$Block = {PowerShellLiteral.List(Block.Select(f => PowerShellLiteral.Of(f.ToString())))}",
            $"$Stays = {PowerShellLiteral.List(Stays.Select(s => PowerShellLiteral.Table(
                ("Family", PowerShellLiteral.Of(s.Family.ToString())), ("With", PowerShellLiteral.Of(s.With?.ToString() ?? "")))))}",
            $"$Rules = {PowerShellLiteral.List(Rules.Select(r => PowerShellLiteral.Table(
                ("Pattern", PowerShellLiteral.Of(r.Pattern)), ("Keeps", PowerShellLiteral.Of(r.Keeps)))))}",
            $"$TellsUnlisted = {PowerShellLiteral.Of(TellsUnlisted)}",
            $"$Guards = {PowerShellLiteral.List(Guards.Select(Of))}",
            $"$Programs = {PowerShellLiteral.List(Programs.Select(Of).Concat(NewcomerValues.Select(Of)))}",
            $"$ProgramSeconds = {PowerShellLiteral.Of(Math.Min(600, 60 * Minutes))}",
            $"$RestorePoint = {PowerShellLiteral.Of(RestorePoint.ToString().ToLowerInvariant())}",
            $"$Minutes = {PowerShellLiteral.Of(Minutes)}",
            $"$SignedOut = {PowerShellLiteral.Of(MountsSignedOut)}",
            $"$ListUrl = {PowerShellLiteral.Of(ListAddress ?? "")}",
            $"$Proxy = {PowerShellLiteral.Of(Proxy ?? "")}",
        ];
        string digest = Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(string.Join('\n', lines))));
        return lines.Prepend($"$PlanId = {PowerShellLiteral.Of(digest[..16])}");
    }

    private static string Of(DesktopProgram program) => PowerShellLiteral.Table(
        ("Hive", PowerShellLiteral.Of(program.IsMachines ? "Machine" : "Program")), ("Key", PowerShellLiteral.Of(program.Key!)),
        ("Title", PowerShellLiteral.Of(program.Name)));

    private static string Of(NewcomerValue value) => PowerShellLiteral.Table(
        ("Hive", PowerShellLiteral.Of("Newcomers")), ("Key", PowerShellLiteral.Of(value.Key)), ("Name", PowerShellLiteral.Of(value.Name)),
        ("Kind", PowerShellLiteral.Of(value.Value?.Type.ToString() ?? "")),
        ("Data", PowerShellLiteral.Of(value.Value is { } set ? set.AsString() ?? Convert.ToHexString(set.Data.Span) : "")),
        ("Title", PowerShellLiteral.Of(value.Title)));

    private static string Of(Guard guard) => PowerShellLiteral.Table(
        ("Hive", PowerShellLiteral.Of(guard.Hive.ToString())), ("Key", PowerShellLiteral.Of(guard.Key)),
        ("Name", PowerShellLiteral.Of(guard.Value.Name)), ("Kind", PowerShellLiteral.Of(KindOf(guard.Value)!)), ("Data", DataOf(guard.Value)));

    private static string DataOf(HiveValue value) => value.Type switch
    {
        HiveValueType.DWord => PowerShellLiteral.Of(value.AsDWord()!.Value),
        HiveValueType.QWord => PowerShellLiteral.Of(PowerShellLiteral.Of(BitConverter.ToInt64(value.Data.Span))),
        HiveValueType.MultiString => PowerShellLiteral.List(value.AsStrings()!.Select(PowerShellLiteral.Of)).ReplaceLineEndings(" "),
        _ => PowerShellLiteral.Of(value.AsString()!),
    };

    [GeneratedRegex("^[A-Za-z0-9.-]{1,50}_[a-hj-km-np-tv-z0-9]{13}$", RegexOptions.None, 1000)]
    private static partial Regex ProperFamily();
}
