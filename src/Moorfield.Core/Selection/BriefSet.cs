namespace Moorfield.Core.Selection;

/// <summary>One or several briefs, each for the machines that it names; one that names none is for all.</summary>
public sealed record BriefSet(ImmutableArray<Brief> Briefs)
{
    /// <summary>The briefs for a machine, in the order in which they were given; all of them for an edition of an image.</summary>
    /// <param name="machine">Null for an edition of an image.</param>
    public ImmutableArray<Brief> For(MachineFacts? machine) =>
        machine is null || Briefs.All(b => b.Machines is null) ? Briefs : [.. Briefs.Where(b => b.Machines?.Fit(machine) != false)];

    /// <summary>The guards of all of them.</summary>
    public IReadOnlyCollection<Guard> Guards => [.. Briefs.SelectMany(b => b.Guards)];

    /// <summary>The machines' maker, for images, which do not know it; null when none of them says it.</summary>
    /// <exception cref="MoorfieldException">They name several.</exception>
    public string? Maker
    {
        get
        {
            var named = Briefs.Where(b => b.Maker is not null).DistinctBy(b => b.Maker, StringComparer.OrdinalIgnoreCase).ToList();
            return named.Count < 2 ? named.FirstOrDefault()?.Maker : throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"{named[0].Name} and {named[1].Name} name different makers. Use one after the other.");
        }
    }

    /// <summary>Makes sure that briefs for one system do not contradict each other; within one brief what is kept wins.</summary>
    /// <exception cref="MoorfieldException">One removes or blocks what another one keeps, or they set a guard to different data.</exception>
    public static void CheckAgreement(ImmutableArray<Brief> briefs, SystemSnapshot system)
    {
        if (briefs.Length < 2)
            return;
        var choices = briefs.Select(b => (Brief: b, Choice: BriefSelection.Of(b, system))).ToList();
        string place = system.EditionNumber is null && system.Computer.Length > 0 ? $" on {system.Computer}" : "";
        foreach (var (brief, choice) in choices)
        {
            foreach (var other in choices.Where(o => !ReferenceEquals(o.Brief, brief)))
            {
                foreach (var match in choice.Taken.Where(t => t.KeptBy is null))
                {
                    if (other.Choice.ByRule.FirstOrDefault(r => r.Keeps && r.Packages.Any(p => p.FullName == match.Package.Package.FullName))
                        is { } keeper)
                        throw Contradiction($"{match.Rule.Source} removes {match.Package.Package.DisplayName}{place}, and {keeper.Rule.Source} keeps "
                            + "it");
                }
                foreach (var line in brief.Lines.Where(l => l.Block is { } family && choice.Blocks.Contains(family)))
                {
                    var keeper = other.Brief.Keep.FirstOrDefault(r => r.Families.Contains(line.Block!.Value))
                        ?? other.Choice.ByRule.FirstOrDefault(r => r.Keeps && r.Packages.Any(p => p.Family == line.Block))?.Rule;
                    if (keeper is not null)
                        throw Contradiction($"{line.Source} blocks {line.Block}, and {keeper.Source} keeps it");
                }
                foreach (var line in brief.Lines.Where(l => l.Guard is not null))
                {
                    if (other.Brief.Lines.FirstOrDefault(l => l.Guard is { } guard && guard.Hive == line.Guard!.Hive
                        && PolicyPlace.Of(guard) == PolicyPlace.Of(line.Guard) && !IsSame(guard, line.Guard)) is { } different)
                        throw Contradiction($"{line.Source} and {different.Source} set the guard {line.Guard!.Title} to different data");
                }
            }
        }
    }

    private static bool IsSame(Guard one, Guard other) => one.IsAbsence == other.IsAbsence && one.Value.Type == other.Value.Type
        && one.Value.Data.Span.SequenceEqual(other.Value.Data.Span);

    private static MoorfieldException Contradiction(string what) => new(ErrorKind.InvalidUsage,
        $"{what}. Change one of the two, or the machines that its brief is for.");
}
