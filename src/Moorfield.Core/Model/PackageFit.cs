namespace Moorfield.Core.Model;

/// <summary>Checks that a package can run on a system, by its architecture and by what its manifest asks of Windows. Source: docs/on-disk.md,
/// "Manifests".</summary>
internal static class PackageFit
{
    private const string Neutral = "neutral";
    private const int FirstWindows11 = 22000; // runs packages for x64 on arm64
    private const int FirstWithoutArm = 26100; // 24H2: packages for 32-bit arm run no more

    /// <summary>The architectures whose packages a system runs, its own first; where it does not say its own, those that it has packages of, the
    /// most frequent first.</summary>
    internal static ImmutableArray<string> Architectures(SystemSnapshot system) => system.Architecture switch
    {
        "x64" => ["x64", "x86"],
        "x86" => ["x86"],
        "arm" => ["arm"],
        "arm64" => ["arm64", .. Build(system) >= FirstWindows11 ? new[] { "x64", "x86" } : ["x86"], .. Build(system) < FirstWithoutArm
            ? new[] { "arm" } : []],
        _ => [.. system.Packages.Select(p => p.FullName.Architecture).Where(a => a != Neutral).GroupBy(a => a, StringComparer.OrdinalIgnoreCase)
            .OrderByDescending(g => g.Count()).Select(g => g.Key)],
    };

    /// <summary>How well an architecture fits a system: 0 is best, <see cref="int.MaxValue"/> means that it does not fit.</summary>
    internal static int Rank(string architecture, SystemSnapshot system)
    {
        var own = Architectures(system);
        if (architecture.Equals(Neutral, StringComparison.OrdinalIgnoreCase))
            return own.Length;
        return own.ToList().FindIndex(a => a.Equals(architecture, StringComparison.OrdinalIgnoreCase)) is >= 0 and var rank ? rank : int.MaxValue;
    }

    /// <summary>Why a package cannot run on a system, as a sentence whose subject is the package; null when it can, as far as that is
    /// known.</summary>
    internal static string? Obstacle(PackageFullName fullName, AppxManifest manifest, SystemSnapshot system)
    {
        if (system.Architecture.Length > 0 && Rank(fullName.Architecture, system) == int.MaxValue)
        {
            return $"is for {fullName.Architecture}, and this Windows is for {system.Architecture}, which runs packages for "
                + $"{TextFormat.List(Architectures(system))}.";
        }
        if (manifest.Devices.IsEmpty)
            return null;
        bool isServer = system.EditionId.StartsWith("Server", StringComparison.OrdinalIgnoreCase);
        var own = manifest.Devices.Where(d => d.Name is "" or "Windows.Universal" or "Windows.Desktop"
            || (isServer && d.Name == "Windows.Server")).ToList();
        if (own.Count == 0)
            return $"is made for {TextFormat.List(manifest.Devices.Select(d => d.Name).Distinct(StringComparer.Ordinal))}, which this is not.";
        var least = own.Min(d => d.MinVersion);
        return Version(system) is { } version && version < least
            ? $"needs Windows {least} or later, and this is {version.Major}.{version.Minor}.{system.Build}." : null;
    }

    private static int Build(SystemSnapshot system) =>
        int.TryParse(system.Build.Split('.')[0], NumberStyles.None, CultureInfo.InvariantCulture, out int build) ? build : 0;

    /// <summary>The version that manifests compare with; null when the build is not known.</summary>
    private static PackageVersion? Version(SystemSnapshot system)
    {
        int build = Build(system);
        if (build is 0 or > ushort.MaxValue)
            return null;
        // A system that does not say its revision is taken for the newest of its build.
        ushort revision = system.Build.Split('.') is [_, var text] && ushort.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture,
            out ushort known) ? known : ushort.MaxValue;
        var (major, minor) = build switch { >= 10240 => (10, 0), >= 9600 => (6, 3), >= 9200 => (6, 2), _ => (6, 1) };
        return new PackageVersion((ushort)major, (ushort)minor, (ushort)build, revision);
    }
}
