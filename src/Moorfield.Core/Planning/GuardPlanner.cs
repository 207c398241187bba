using Moorfield.Core.Model;

namespace Moorfield.Core.Planning;

/// <summary>Plans guards.</summary>
public static class GuardPlanner
{
    /// <summary>The changes that set guards, or lift those that are set.</summary>
    public static IEnumerable<Change> Changes(IEnumerable<GuardState> states, SystemSnapshot snapshot, bool lift) =>
        states.Where(s => s.IsSet == lift).Select(s => (lift ? s.Lift : s.Set) with { Edition = snapshot.EditionNumber });
}
