using System.Globalization;

namespace Moorfield.Core.Storage;

/// <summary>
/// The time that a build says of what it makes, so that the same input gives the same bytes whenever it runs. Source: the specification of
/// SOURCE_DATE_EPOCH (reproducible-builds.org), seconds since 1970 [doc].
/// </summary>
internal static class SourceDate
{
    private const string Variable = "SOURCE_DATE_EPOCH";

    /// <summary>UTC; null where the environment names none.</summary>
    /// <exception cref="MoorfieldException">It names something else.</exception>
    internal static DateTime? Given => Environment.GetEnvironmentVariable(Variable) is not { Length: > 0 } text ? null
        : Parse(text) ?? throw new MoorfieldException(ErrorKind.InvalidUsage,
            $"{Variable} is '{text}', and not a number of seconds since 1970, such as 1764547200.");

    internal static DateTime? Parse(string text) =>
        long.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out long seconds)
            && seconds <= new DateTimeOffset(DateTime.MaxValue.AddSeconds(-1), TimeSpan.Zero).ToUnixTimeSeconds()
            ? DateTime.UnixEpoch.AddSeconds(seconds) : null;
}
