using Moorfield.Formats.Appx;

namespace Moorfield.Reporting;

/// <summary>Puts a forecast into words.</summary>
internal static class ForecastText
{
    // More families that stay away are named in one line.
    private const int MaxStayingAway = 5;

    /// <param name="update">The image, and its edition that the update comes from; null for a sign-in.</param>
    internal static void Show(IReportPage page, Target target, SystemForecast system, (string Path, SystemSnapshot Edition)? update, Brief? brief,
        bool all)
    {
        var (snapshot, forecast) = (system.Snapshot, system.Forecast);
        page.Heading(update is var (path, image)
            ? $"{DisplayText.Place(target, snapshot)}, build {snapshot.Build}, updated from edition {image.EditionNumber} ({image.Name}) of "
                + $"{Path.GetFileName(path)}, build {image.Build}"
            : $"The next new account on {DisplayText.Place(target, snapshot)}");
        var away = forecast.Families.Where(f => f.Fate == Fate.StaysAway).ToList();
        bool folds = !all && away.Count > MaxStayingAway;
        var shown = forecast.Families.Where(f => all || system.Families.Contains(f) || !(IsOrdinary(f) || (folds && f.Fate == Fate.StaysAway)))
            .ToList();
        var sheet = update is null ? new TextTable("Package", "Forecast", "Version", "Why").Quiet(2)
            : new TextTable("Package", "Forecast", "For", "Now", "Then", "Why").Quiet(3, 4);
        foreach (var family in shown.OrderByDescending(system.Families.Contains))
        {
            string forecasted = Word(family.Fate) + (brief is not null && system.Families.Contains(family) ? ", unwanted" : "");
            if (update is null)
                sheet.Add(family.DisplayName, forecasted, Version(family.Now), Why(family, snapshot, update is not null));
            else
                sheet.Add(family.DisplayName, forecasted, For(family.Concerned, snapshot), Version(family.Now), Version(family.Then),
                    Why(family, snapshot, update is not null));
        }
        if (shown.Count > 0)
            page.Table(sheet);
        if (folds)
            page.Line($"{away.Count} packages stay away: {TextFormat.List(away.Select(f => f.DisplayName), MaxStayingAway)}. --all shows why.");
        ShowHidden(page, [.. forecast.Families.Except(shown).Where(f => !folds || f.Fate != Fate.StaysAway)]);
        foreach (var program in forecast.Programs)
        {
            string entries = TextFormat.List(program.Installers.Where(i => i.IsOff == program.IsBlocked)
                .Select(i => DisplayText.Of(i with { IsOff = false })));
            page.Line(program.IsBlocked ? $"{program.Name}, a desktop program, stays away: a block keeps it from installing itself ({entries})."
                : $"{program.Name}, a desktop program, installs itself{(system.Programs.Contains(program) ? ", unwanted" : "")} ({entries}).");
        }
        foreach (var delivery in forecast.Deliveries)
        {
            string unwanted = brief is not null && system.Deliveries.Contains(delivery) ? ", unwanted" : "";
            page.Line($"{Word(delivery.Kind)} may install themselves for {For(delivery.For, snapshot)}{unwanted}: no guard against that "
                + $"is set ({string.Join(", ", delivery.Guards.Select(g => g.Name))}).");
        }
        if (!forecast.Doubtful.IsEmpty)
        {
            var only = forecast.Doubtful.SelectMany(d => d.Guards).Where(g => !g.Editions.IsEmpty)
                .Select(g => g.Name!).Distinct(StringComparer.Ordinal);
            page.Line($"Only the guard {TextFormat.List(only)} keeps apps from installing themselves for "
                + $"{For(forecast.Doubtful.MaxBy(d => d.For.Sids.Length)!.For, snapshot)}, and systems like this one ({snapshot.EditionId}) are "
                + "reported not to honour it: set those of the accounts too.");
        }
        if (!forecast.Idle.IsEmpty)
            page.Line($"Set, but not honoured by {(update?.Edition ?? snapshot).Release}: {TextFormat.List(forecast.Idle.Select(g => g.Title))}.");
        ShowRemedy(page, system, update is not null, brief);
    }

    /// <summary>Packages that stay as they are, and parts of the system that are replaced with new versions.</summary>
    private static bool IsOrdinary(ForecastFamily family) => IsOrdinary(family.Fate, family.Role);

    /// <summary>True for packages that stay as they are, and for parts of the system that are replaced with new versions.</summary>
    internal static bool IsOrdinary(Fate fate, PackageRole role) =>
        fate == Fate.Stays || (role == PackageRole.Component && fate is Fate.Renewed or Fate.Given);

    private static void ShowHidden(IReportPage page, IReadOnlyCollection<ForecastFamily> hidden)
    {
        int staying = hidden.Count(f => f.Fate == Fate.Stays);
        int parts = hidden.Count - staying;
        if (hidden.Count > 0)
        {
            page.Line("Not shown: " + string.Join(", ", new[]
            {
                staying == 0 ? "" : $"{TextTable.Count(staying, "package")} that {(staying == 1 ? "stays as it is" : "stay as they are")}",
                parts == 0 ? "" : $"{TextTable.Count(parts, "part")} of the system",
            }.Where(t => t.Length > 0)) + $"; --all shows {(hidden.Count == 1 ? "it" : "them")}.");
        }
    }

    private static void ShowRemedy(IReportPage page, SystemForecast system, bool isUpdate, Brief? brief)
    {
        if (DisplayText.Unlisted([[.. system.Unlisted.Select(f => (f.Family, f.DisplayName))]], " would come") is { } unlisted)
            page.Line(unlisted);
        if (system.IsClean)
        {
            page.Line(brief is not null ? "Nothing that the brief does not want would come." : isUpdate
                ? "Nothing comes back, and nothing new comes."
            : "Nothing that all accounts do without would be given.");
            return;
        }
        var lost = isUpdate ? system.Families.Where(f => f.Role == PackageRole.Component && f.Guards.IsEmpty).Select(f => f.DisplayName).ToList()
            : [];
        int count = system.Families.Length;
        if (count > 0)
        {
            page.Line(brief is null
                ? isUpdate ? Coming(system)
                    : $"{TextTable.Count(count, "package")} would be given, though {(count == 1 ? "it is" : "they are")} blocked, or no account has "
                        + $"{(count == 1 ? "it" : "them")}."
                : $"{TextTable.Count(count, "package")} that the brief does not want would come.");
        }
        if (lost.Count > 0)
            page.Line($"No block keeps {TextFormat.List(lost)} away, which {(lost.Count == 1 ? "is a part" : "are parts")} of the "
                + "system: a guard may. A brief says which, by its family.");
        if (system.Remedy is null)
            return;
        page.Line($"This would keep {(lost.Count == 0 ? "all of that" : "the rest")} away:");
        page.Verbatim($"  {system.Remedy}");
    }

    private static string Coming(SystemForecast system)
    {
        int back = system.Families.Count(f => f.Fate == Fate.ComesBack);
        int fresh = system.Families.Length - back;
        return back == 0 ? $"{TextTable.Count(fresh, "new package")} would come."
            : $"{TextTable.Count(back, "package")} would come back{(fresh == 0 ? "" : $", and {TextTable.Count(fresh, "new one")} would come")}.";
    }

    private static string Version(PackageVersion? version) => version?.ToString() ?? DisplayText.Nothing;

    private static string For(Audience audience, SystemSnapshot snapshot) => audience.Describe(snapshot);

    /// <summary>A fate as a verb.</summary>
    internal static string Word(Fate fate) => fate switch
    {
        Fate.ComesBack => "comes back",
        Fate.Arrives => "is new",
        Fate.StaysAway => "stays away",
        Fate.Renewed => "is renewed",
        Fate.Leaves => "leaves",
        Fate.Given => "is given",
        _ => "stays",
    };

    /// <summary>Apps of a kind.</summary>
    internal static string Word(Delivery delivery) => delivery switch
    {
        Delivery.Suggested => "Suggested apps",
        Delivery.Partner => "The partners' apps",
        _ => "The maker's apps",
    };

    private static string Why(ForecastFamily family, SystemSnapshot snapshot, bool isUpdate)
    {
        string holders = family.Before.IsEmpty ? ""
        : $"; {For(family.Before, snapshot)} "
            + $"{(family.Before is { Sids.Length: 1, Newcomers: false } ? "has" : family.Before.Sids.IsEmpty ? "get" : "have")} it";
        string guards = TextFormat.List(family.Guards.Select(g => g.Title));
        return family.Cause switch
        {
            FateCause.GuardNotSet => $"part of the system, guard {guards} not set",
            FateCause.Blocked when family.Fate != Fate.Stays => $"blocked{holders}",
            FateCause.Guarded => $"guard {guards} is set{holders}",
            _ => Why(family.Fate, family.Cause, isUpdate),
        };
    }

    /// <summary>Why, without what differs from machine to machine; empty where the fate says it.</summary>
    internal static string Why(Fate fate, FateCause cause, bool isUpdate) => cause switch
    {
        FateCause.StillProvisioned when fate == Fate.Given => "provisioned",
        FateCause.StillProvisioned => isUpdate ? "still provisioned, and not blocked" : "still provisioned, though no account has it",
        FateCause.ProvisionedThoughBlocked => "still provisioned: its block does not change that",
        FateCause.NeverBlocked => fate == Fate.Arrives ? "in the image, and not blocked" : "never blocked, and in the image",
        FateCause.NoGuard => fate == Fate.Given ? "part of the system" : "part of the system, no guard known",
        FateCause.GuardNotSet => "part of the system, its guard is not set",
        FateCause.Blocked => fate == Fate.Stays ? "blocked, but there" : "blocked",
        FateCause.Guarded => "its guard is set",
        FateCause.OtherVersion => "",
        FateCause.NotInImage => fate == Fate.Leaves ? "not part of the new build" : "not in the image",
        _ => "nothing newer in the image",
    };
}
