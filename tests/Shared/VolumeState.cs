using System.Text;

namespace Moorfield.Tests;

/// <summary>
/// Everything on a volume as programs that are not ours tell it: find for names, modes, owners, sizes and times, sha256sum for contents,
/// hivexregedit for the keys and values of every hive, sqlite3 for every row and trigger, getfattr for extended attributes.
/// </summary>
public static class VolumeState
{
    private static readonly string[] Hives = ["SOFTWARE", "SYSTEM", "NTUSER.DAT", "UsrClass.dat"];

    /// <summary>Names, modes, owners, sizes, times and contents of everything.</summary>
    public static string Files(string root) =>
        Tool.Read("sh", "-c",
            "cd \"$0\" && find . -printf '%p|%y|%m|%U|%G|%s|%T@|%l\\n' | LC_ALL=C sort && find . -type f -print0 | LC_ALL=C sort -z | xargs -0 "
                + "sha256sum && getfattr -Rhd -m - . 2>/dev/null", root);

    /// <summary>The keys and values of every hive, and the rows and triggers of the state repository.</summary>
    public static string Contents(string root)
    {
        var text = new StringBuilder();
        foreach (string file in Directory.EnumerateFiles(root, "*", SearchOption.AllDirectories).Order(StringComparer.Ordinal))
        {
            if (Hives.Contains(Path.GetFileName(file)))
                text.AppendLine(file[root.Length..]).AppendLine(Tool.Read("hivexregedit", "--export", file, "\\"));
            if (file.EndsWith(".srd", StringComparison.Ordinal))
                text.AppendLine(Tool.Read("sqlite3", file, ".dump"));
        }
        return text.ToString();
    }
}
