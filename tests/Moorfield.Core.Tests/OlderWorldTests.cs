using Moorfield.Core.Model;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

// Every suite once more over a world that is laid out as an old machine is.

public sealed class OlderVolumeConformance() : ChangingConformance(ConformanceKind.OlderVolume);

public sealed class OlderDiskConformance() : ChangingConformance(ConformanceKind.OlderDisk);

public sealed class OlderImageConformance() : ChangingConformance(ConformanceKind.OlderImage);

public sealed class OlderSavedVolumeConformance() : ReadingConformance(ConformanceKind.SavedOf(ConformanceKind.OlderVolume));

public sealed class OlderSavedDiskConformance() : ReadingConformance(ConformanceKind.SavedOf(ConformanceKind.OlderDisk));

public sealed class OlderSavedImageConformance() : ReadingConformance(ConformanceKind.SavedOf(ConformanceKind.OlderImage));

public sealed class OlderBringBackToVolume() : BringBackConformance(ConformanceKind.OlderVolume);

public sealed class OlderBringBackToDisk() : BringBackConformance(ConformanceKind.OlderDisk);

public sealed class OlderBringBackToImage() : BringBackConformance(ConformanceKind.OlderImage);

public sealed class OlderRecordedVolumeState() : RecordedStateConformance(ConformanceKind.OlderVolume);

public sealed class OlderRecordedDiskState() : RecordedStateConformance(ConformanceKind.OlderDisk);

public sealed class OlderRecordedImageState() : RecordedStateConformance(ConformanceKind.OlderImage);

/// <summary>The older world is what it is meant to be.</summary>
public sealed class OlderWorldTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);

    [Fact]
    public void An_account_has_much_of_a_package_and_nothing_of_one_that_was_removed()
    {
        var bench = new Bench(Demo.CopyOlderTo(_folder), _folder["vault"]);
        string profile = Path.Combine(bench.Root, "Users/ivy");
        string[] hives = [Path.Combine(profile, "NTUSER.DAT"), Path.Combine(profile, "AppData/Local/Microsoft/Windows/UsrClass.dat")];
        List<string> Named() => [.. hives.SelectMany(h => Tool.Run("reglookup", h).Output.Split('\n'))
            .Where(l => l.Contains("Northlight.Weather_", StringComparison.OrdinalIgnoreCase))];
        Named().Count(l => l.Contains(",KEY,", StringComparison.Ordinal)).ShouldBeInRange(80, 300);
        var before = bench.Read();
        bench.Remove("Weather", "everyone").Failures.ShouldBeEmpty();
        Named().ShouldBeEmpty();
        bench.Read().Leftovers.ShouldBeEmpty();
        // Places of the machine that are not known are told and left.
        string note = before.Notes.Single(n => n.Code == "unknownPlace").Text;
        note.ShouldStartWith("SOFTWARE: 9 keys of packages are not known here, and left alone: ");
        foreach (string place in new[] { @"StateChange\PackageList (3)", @"AppxAllUserStore\Staged (3)", @"ActivatableClasses\Package (3)" })
            note.ShouldContain(place);
        before.Packages.Single(p => p.DisplayName == "Assistant").AllTraces.Single(t => t.Kind == TraceKind.SystemFolder).Location
            .ShouldBe(new TreeLocation(WindowsPath.Of(@"Windows\Northlight.Assistant")));
    }

    public void Dispose() => _folder.Dispose();
}
