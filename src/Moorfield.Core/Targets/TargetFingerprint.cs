using Moorfield.Core.Model;
using Moorfield.Core.Reading;

namespace Moorfield.Core.Targets;

/// <summary>Tells whether the files that a run would write were touched between two moments, without reading them.</summary>
public sealed class TargetFingerprint : IEquatable<TargetFingerprint>
{
    private readonly List<(WindowsPath Path, long Size, FileTime Modified, FileTime Changed, ulong Inode)> _files = [];

    private TargetFingerprint()
    {
    }

    /// <param name="accounts">Of the volume; an image needs none.</param>
    public static TargetFingerprint Of(Target target, IEnumerable<Account> accounts)
    {
        var fingerprint = new TargetFingerprint();
        if (target.Volume is not { } volume)
        {
            var file = new FileInfo(target.FullPath);
            fingerprint._files.Add((WindowsPath.Root, file.Exists ? file.Length : -1, new FileTime(file.LastWriteTimeUtc.Ticks, 0), default, 0));
            return fingerprint;
        }
        IEnumerable<WindowsPath> paths =
        [
            Places.Software, Places.StateRepository, Places.StagedPackages, Places.Repository,
            Places.DefaultAssociations, Places.Pins, Places.UserHive(Places.DefaultProfile),
            .. accounts.Select(a => a.Profile).OfType<WindowsPath>().SelectMany(p => new[] { Places.UserHive(p), Places.Classes(p), Places.AppData(p), Places.Aliases(p) }),
        ];
        foreach (var path in paths)
        {
            if (volume.Stat(path) is { } info)
                fingerprint._files.Add((path, info.Size, info.Modified, info.Changed, info.Inode));
        }
        return fingerprint;
    }

    /// <inheritdoc/>
    public bool Equals(TargetFingerprint? other) => other is not null && _files.SequenceEqual(other._files);

    /// <inheritdoc/>
    public override bool Equals(object? obj) => Equals(obj as TargetFingerprint);

    /// <inheritdoc/>
    public override int GetHashCode() => _files.Count;
}
