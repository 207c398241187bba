using Moorfield.Core.Volumes;

namespace Moorfield.Core.Systems;

/// <summary>What a person has in an app: files beyond the layout that the system makes at the first start.</summary>
/// <param name="Bytes">More than 0.</param>
/// <param name="LastChange">Of the file that changed last.</param>
public sealed record PersonalData(string Sid, long Bytes, DateTimeOffset LastChange)
{
    /// <summary>The settings hive as the system makes it. [model]</summary>
    private const long EmptySettings = 8192;

    // AC, TempState and SystemAppData hold what the system puts there and what may go at any time. [seen]
    private static readonly string[] Folders = ["LocalState", "RoamingState", "LocalCache"];

    /// <summary>Null when there is nothing beyond the initial layout.</summary>
    internal static PersonalData? Read(WindowsTree tree, string sid, WindowsPath appData)
    {
        long bytes = 0;
        var last = default(FileTime);
        foreach (string folder in Folders)
            Add(appData / folder);
        if (tree.Stat(appData / "Settings" / "settings.dat") is { Kind: EntryKind.File, Size: > EmptySettings } settings)
        {
            bytes += settings.Size - EmptySettings;
            last = Later(last, settings.Modified);
        }
        return bytes == 0 ? null : new PersonalData(sid, bytes, DateTimeOffset.FromUnixTimeSeconds(Math.Clamp(last.Seconds, 0, DateTimeOffset.MaxValue.ToUnixTimeSeconds())));

        void Add(WindowsPath path)
        {
            switch (tree.Stat(path))
            {
                case { Kind: EntryKind.Folder }:
                    foreach (string name in tree.List(path))
                        Add(path / name);
                    break;
                case { Kind: EntryKind.File } file:
                    bytes += file.Size;
                    last = Later(last, file.Modified);
                    break;
            }
        }
    }

    private static FileTime Later(FileTime a, FileTime b) => b.Seconds > a.Seconds ? b : a;
}
