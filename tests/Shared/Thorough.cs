namespace Moorfield.Tests;

/// <summary>How much the tests try that go through many cases: a sample in every run, all of it in the soak.</summary>
internal static class Thorough
{
    /// <summary>Whether all cases are tried: MOORFIELD_EVERY_STEP=1, as './run soak' sets it.</summary>
    public static bool EveryStep { get; } = Environment.GetEnvironmentVariable("MOORFIELD_EVERY_STEP") == "1";
}
