using Moorfield.Formats.Resources;

namespace Moorfield.Core.Reading;

/// <summary>A manifest's texts for people, with the texts that it only refers to put in.</summary>
/// <param name="Manifest">With texts where there are any; references that lead nowhere stay as they are.</param>
/// <param name="Neutral">The name in the language that the package was built with; null when it has none.</param>
internal sealed record ResolvedManifest(AppxManifest Manifest, string? Neutral);

/// <summary>Finds the texts of packages in their resource indexes.</summary>
/// <param name="index">Gives the resource index of a package; null when it has none.</param>
/// <param name="appNames">The names that the machine itself shows, where the tree knows them; null otherwise.</param>
/// <param name="languages">Language tags, the best first.</param>
internal sealed class PackageTexts(
    Func<PackageFullName, ResourceIndex?> index, IReadOnlyDictionary<string, string>? appNames, ImmutableArray<string> languages, SnapshotNotes notes)
{
    /// <param name="parts">All full names of the package: resource packages have indexes of their own.</param>
    internal ResolvedManifest Resolve(PackageFullName fullName, AppxManifest manifest, IEnumerable<PackageFullName> parts)
    {
        string? name = ResourceResolver.IsReference(manifest.DisplayName) ? null : manifest.DisplayName;
        if (!PackageFiles.References(manifest).Any())
            return new ResolvedManifest(manifest, name);
        if (index(fullName) is not { } main)
            return appNames is null ? new ResolvedManifest(manifest, name) : Describe(fullName, manifest, appNames);
        ImmutableArray<ResourceIndex> packs = [.. parts.Where(p => p != fullName).Select(index).OfType<ResourceIndex>()];
        var resolver = new ResourceResolver(main, packs, fullName.Name);
        var resolved = manifest with
        {
            DisplayName = Text(manifest.DisplayName),
            PublisherDisplayName = Text(manifest.PublisherDisplayName),
            Description = Text(manifest.Description),
            Applications = [.. manifest.Applications.Select(a => a with { DisplayName = Text(a.DisplayName), Description = Text(a.Description) })],
        };
        return new ResolvedManifest(resolved, name ?? Plain(manifest.DisplayName!, []));

        string? Text(string? text) => text is not null && ResourceResolver.IsReference(text) ? Plain(text, languages) ?? text : text;

        string? Plain(string reference, ImmutableArray<string> wanted)
        {
            try
            {
                string? text = resolver.Text(reference, wanted)?.Trim();
                return text is { Length: > 0 } ? string.Concat(text.Select(c => char.IsControl(c) ? ' ' : c)) : null;
            }
            catch (InvalidDataException e)
            {
                notes.Add("resourcesUnreadable", $"{fullName}: its resources.pri {e.Message}. It is not used.", fullName);
                return null;
            }
        }
    }

    /// <summary>A manifest with the texts that the machine itself shows; where it shows none for a package, that is called like its
    /// application if both refer to one text, or if it has only one.</summary>
    private static ResolvedManifest Describe(PackageFullName fullName, AppxManifest manifest, IReadOnlyDictionary<string, string> shown)
    {
        var texts = new Dictionary<string, string>(StringComparer.Ordinal);
        foreach (var app in manifest.Applications.Where(a => a.DisplayName is not null && ResourceResolver.IsReference(a.DisplayName)))
        {
            if (shown.TryGetValue($"{fullName.Family}!{app.Id}", out string? text))
                texts.TryAdd(app.DisplayName!, text);
        }
        if (manifest.DisplayName is { } name && ResourceResolver.IsReference(name) && (shown.TryGetValue(fullName.ToString(), out string? own)
            || (manifest.Applications is [{ Id: var only }] && shown.TryGetValue($"{fullName.Family}!{only}", out own))))
            texts[name] = own;
        var told = manifest with
        {
            DisplayName = Text(manifest.DisplayName),
            Applications = [.. manifest.Applications.Select(a => a with { DisplayName = Text(a.DisplayName) })],
        };
        return new ResolvedManifest(told, told.DisplayName is { } known && !ResourceResolver.IsReference(known) ? known : null);

        string? Text(string? text) => text is not null && texts.TryGetValue(text, out string? found)
            ? string.Concat(found.Select(c => char.IsControl(c) ? ' ' : c)) : text;
    }
}
