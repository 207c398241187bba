using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;

namespace Moorfield.Core.Operations;

/// <summary>How something that a provenance names was found.</summary>
public enum VerifiedState
{
    /// <summary>As it says.</summary>
    Same,
    /// <summary>Not as it says.</summary>
    Differs,
    /// <summary>Not where the provenance is, so that nothing is known.</summary>
    NotHere,
}

/// <summary>Something that a provenance names, and what was found.</summary>
/// <param name="Role">In a word or two.</param>
/// <param name="Recorded">A digest, or what is removed, in words.</param>
/// <param name="Found">Null when it is not here.</param>
public sealed record VerifiedPart(string Role, string Name, string Recorded, string? Found, VerifiedState State);

/// <summary>Holds a medium against its provenance: its digest, what it was made of as far as that is here, and what was removed.</summary>
/// <param name="medium">Path of the medium.</param>
/// <param name="statement">Path of the provenance; what it names lies in its folder.</param>
public sealed class MediaVerification(string medium, string statement)
{
    /// <summary>As it was read.</summary>
    public Provenance Provenance { get; } = Provenance.Read(statement);

    /// <param name="open">Opens the medium.</param>
    /// <param name="report">Called with the file that is read, and how much of it, from 0 to 1.</param>
    /// <exception cref="MoorfieldException">Something cannot be read, or it was stopped.</exception>
    public ImmutableArray<VerifiedPart> Verify(Func<Target> open, Action<string, double> report, CancellationToken stop)
    {
        var parts = ImmutableArray.CreateBuilder<VerifiedPart>();
        string found = HashOf(medium, report, stop);
        parts.Add(Compare("result", Provenance.Result, found));
        foreach (var (material, index) in Provenance.Materials.Select((m, i) => (m, i)))
            parts.Add(Compare(index == 0 ? "source" : "part", material, Here(material.Name) is { } path ? HashOf(path, report, stop) : null));
        using var target = open();
        if (target.AsImage is null)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{target.Name} is {target.Description}. A provenance is about an ISO.");
        foreach (var edition in Provenance.Removed)
            parts.Add(Check(target, edition));
        return parts.ToImmutable();
    }

    /// <summary>The SHA-256 of a file, in small hexadecimal digits.</summary>
    /// <exception cref="MoorfieldException">It cannot be read, or it was stopped.</exception>
    public static string HashOf(string path, Action<string, double> report, CancellationToken stop)
    {
        using var file = RegularFile.OpenNamed(path);
        double length = Math.Max(1, file.Length);
        return FormatErrors.Wrap(path, () => FileContent.HashOf(file.SafeFileHandle, done =>
        {
            MediaBuilder.Stop(stop);
            report(Path.GetFileName(path), done / length);
        }));
    }

    private static VerifiedPart Compare(string role, NamedDigest recorded, string? found) => new(role, recorded.Name, recorded.Sha256, found,
        found is null ? VerifiedState.NotHere : found == recorded.Sha256 ? VerifiedState.Same : VerifiedState.Differs);

    /// <summary>The file that a name means in the statement's folder; null when there is none, or a name or a link leads out of the folder.</summary>
    private string? Here(string name)
    {
        if (name.StartsWith('/') || name.Split('/').Any(p => p is "" or "." or ".."))
            return null;
        string path = Path.Combine(Path.GetDirectoryName(statement) ?? "", name);
        return RegularFile.KindOf(path) is { } kind && RegularFile.DescribesFile(kind)
            && !RegularFile.LeadsOut(path, Path.GetDirectoryName(Path.GetFullPath(statement))!) ? path : null;
    }

    private static VerifiedPart Check(Target target, EditionRemovals removed)
    {
        string role = "removed", name = $"edition {removed.Edition} ({removed.Name})";
        string recorded = TextFormat.Count(removed.Packages.Length, "package")
            + (removed.Programs.IsEmpty ? "" : $", {TextFormat.Count(removed.Programs.Length, "desktop program")}");
        if (target.Editions.FirstOrDefault(e => e.Number == removed.Edition)?.Name != removed.Name)
            return new VerifiedPart(role, name, recorded, "no such edition", VerifiedState.Differs);
        var snapshot = target.Read([removed.Edition], [])[0];
        var packages = snapshot.Packages.Where(p => p.HasFiles || p.Newcomers).Select(p => p.FullName.ToString())
            .ToHashSet(StringComparer.OrdinalIgnoreCase);
        var programs = DesktopProgramGroup.Of(snapshot).Where(p => p.Newcomers).Select(p => p.Name).ToHashSet(StringComparer.OrdinalIgnoreCase);
        string[] back = [.. removed.Packages.Where(packages.Contains), .. removed.Programs.Where(programs.Contains)];
        return back.Length == 0 ? new VerifiedPart(role, name, recorded, "none of them is there", VerifiedState.Same)
            : new VerifiedPart(role, name, recorded, $"there: {TextFormat.List(back, 4)}", VerifiedState.Differs);
    }
}
