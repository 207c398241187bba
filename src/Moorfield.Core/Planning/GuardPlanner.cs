namespace Moorfield.Core.Planning;

/// <summary>Plans guards.</summary>
public static class GuardPlanner
{
    /// <summary>The changes that set guards, or lift those that are set.</summary>
    public static IEnumerable<Change> Changes(IEnumerable<GuardState> states, SystemSnapshot snapshot, bool lift) =>
        states.Where(s => s.IsSet == lift).SelectMany(s => lift ? s.Lift : s.Set).Select(c => c with { Edition = snapshot.EditionNumber });

    /// <summary>The intentions of setting guards, or of lifting those that are set.</summary>
    public static IEnumerable<Intent> Intents(IEnumerable<GuardState> states, SystemSnapshot snapshot, bool lift) =>
        states.Where(s => s.IsSet == lift).GroupBy(s => s.Guard).Select(g => new Intent(
            lift ? IntentKind.Unguard : IntentKind.Guard, snapshot.EditionNumber, g.First().Concerns,
            [.. g.Select(s => s.Sid).OfType<string>()], g.Any(s => s is { Sid: null, Guard.Place.IsPerAccount: true })));
}
