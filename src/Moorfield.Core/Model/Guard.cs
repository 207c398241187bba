namespace Moorfield.Core.Model;

/// <summary>Which hives a guard is for.</summary>
public enum GuardHive
{
    /// <summary>SOFTWARE: for everyone on the machine.</summary>
    Machine,
    /// <summary>NTUSER.DAT of each account, and of the profile that new accounts are made from.</summary>
    Account,
}

/// <summary>A hive that guards may be in, with all that differs from one to another.</summary>
/// <param name="File">Its name: among the machine's hives, or in a profile.</param>
/// <param name="IsPerAccount">True if each account has one, and the profile that new accounts are made from.</param>
/// <param name="RegistryRoot">Where a running system shows it.</param>
public sealed record GuardPlace(GuardHive Hive, string File, bool IsPerAccount, string RegistryRoot)
{
    /// <summary>All of them; a new one is a line here and a place in HandOver/common.ps1.</summary>
    public static ImmutableArray<GuardPlace> All { get; } =
    [
        new(GuardHive.Machine, "SOFTWARE", IsPerAccount: false, @"HKEY_LOCAL_MACHINE\SOFTWARE"),
        new(GuardHive.Account, "NTUSER.DAT", IsPerAccount: true, "HKEY_CURRENT_USER"),
    ];

    /// <summary>The place of a kind of hive.</summary>
    public static GuardPlace Of(GuardHive hive) => All.First(p => p.Hive == hive);

    /// <summary>The place of a hive file; null if guards are never in it.</summary>
    internal static GuardPlace? Of(WindowsPath file) => All.FirstOrDefault(p => p.File.Equals(file.Name, StringComparison.OrdinalIgnoreCase));
}

/// <summary>Apps that install themselves.</summary>
public enum Delivery
{
    /// <summary>That the system suggests, for any account at any time.</summary>
    Suggested,
    /// <summary>Of the system's partners, at an account's first sign-in.</summary>
    Partner,
    /// <summary>Of the machine's maker, at an account's first sign-in.</summary>
    Maker,
}

/// <summary>The effect that a guard has on a system.</summary>
public enum GuardEffect
{
    /// <summary>Systems of its release and edition do.</summary>
    Honoured,
    /// <summary>Its release does; its edition is reported not to, or its build is not known.</summary>
    Doubtful,
    /// <summary>Its release does not.</summary>
    NotHonoured,
}

/// <summary>A registry policy value that keeps something from coming back where a block is not enough.</summary>
/// <param name="Name">Of a guard that Moorfield knows; null for one that a brief describes.</param>
/// <param name="Key">Path inside the hive.</param>
/// <param name="Family">The package that it is about; null when it is about none in particular.</param>
/// <param name="Because">Its effect, or why it is wanted.</param>
public sealed record Guard(string? Name, GuardHive Hive, string Key, HiveValue Value, string? Family, string? Because)
{
    /// <summary>The kind of app that does not install itself where the guard is set.</summary>
    public ImmutableArray<Delivery> Stops { get; init; } = [];

    /// <summary>A part of the EditionID of systems that certainly honour it; empty when all do.</summary>
    public ImmutableArray<string> Editions { get; init; } = [];

    /// <summary>Builds of Windows that honour it: the first, and the last of the last release.</summary>
    public (int First, int Last) Builds { get; init; } = (0, int.MaxValue);

    /// <summary>True if it is widely reported; false if the platform's vendor documents it, or a brief describes it.</summary>
    public bool IsReported { get; init; }

    /// <summary>True if it is set only when it is named, because it takes away more than what comes by itself.</summary>
    public bool OnlyByName { get; init; }

    /// <summary>True if keys must not be there: those below its key whose names fit the name of <see cref="Value"/>, a pattern; there is no value
    /// then.</summary>
    public bool IsAbsence { get; init; }

    /// <summary>The effect that it has on a system.</summary>
    public GuardEffect EffectOn(SystemSnapshot system)
    {
        bool isKnown = int.TryParse(system.Build.Split('.')[0], NumberStyles.None, CultureInfo.InvariantCulture, out int build);
        return isKnown && (build < Builds.First || build > Builds.Last) ? GuardEffect.NotHonoured
            : (isKnown || Builds == (0, int.MaxValue))
                && (Editions.IsEmpty || Editions.Any(e => system.EditionId.Contains(e, StringComparison.OrdinalIgnoreCase))) ? GuardEffect.Honoured
            : GuardEffect.Doubtful;
    }

    /// <summary>True if it is about a package of a family.</summary>
    public bool IsFor(PackageFamilyName family) => family.ToString().Equals(Family, StringComparison.OrdinalIgnoreCase);

    /// <summary>True if another one is the same value in the same place, whatever is said of it.</summary>
    internal bool IsSameValue(Guard other) => Hive == other.Hive && Key.Equals(other.Key, StringComparison.OrdinalIgnoreCase) && Value == other.Value;

    /// <summary>The hive that it is in.</summary>
    public GuardPlace Place => GuardPlace.Of(Hive);

    /// <summary>The name of the guard.</summary>
    public string Title => Name ?? Value.Name;

    /// <summary>Its effect, or why it is wanted; without either, its value.</summary>
    public string Purpose => Because ?? Describe();

    /// <summary>Hive, key and value in one line.</summary>
    public string Describe() => IsAbsence ? $@"{Place.File}: no key {Key}\{Value.Name}" : $"{Place.File}: {Key}: {Value.Name}";
}

/// <summary>A guard in one hive.</summary>
/// <param name="Sid">The account whose hive it is; null for the machine's and new accounts'.</param>
/// <param name="Now">The present value; null when it is not there. Of keys that must not be there, their names.</param>
/// <param name="IsKnown">True if the value was looked up; a saved inventory does not have those that only a brief names.</param>
public sealed record GuardState(Guard Guard, string? Sid, WindowsPath Hive, HiveValue? Now, bool IsKnown = true)
{
    /// <summary>True if the value is there as the guard wants it, as far as that is known.</summary>
    public bool IsSet => IsKnown && (Guard.IsAbsence ? Now is null : Now == Guard.Value);

    /// <summary>Where it is, in words.</summary>
    public string Place(SystemSnapshot snapshot) =>
        !Guard.Place.IsPerAccount ? "the machine" : Sid is null ? "newcomers" : snapshot.Account(Sid)?.Name ?? Sid;

    /// <summary>The name under which the change is recorded: the guard's family, or its own name.</summary>
    public string Concerns => Guard.Family ?? Guard.Title;

    internal IEnumerable<Change> Set => Guard.IsAbsence
        ? (Now?.AsStrings() ?? []).Select(name => new KeyRemoved(Concerns, Hive, $@"{Guard.Key}\{name}")) : [Change(Guard.Value)];

    /// <summary>Keys that were taken away do not come back by this: undo gives them back.</summary>
    internal IEnumerable<Change> Lift => Guard.IsAbsence ? [] : [Change(null)];

    private ValueChanged Change(HiveValue? after) => new(Concerns, Hive, Guard.Key, Guard.Value.Name, Now, after);
}
