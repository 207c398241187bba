using Moorfield.Core.Layout;

namespace Moorfield.Core.Reading;

/// <summary>Reads Uninstall keys, and finds out what starts each program. Source: docs/on-disk.md, "Desktop programs".</summary>
internal static class DesktopPrograms
{
    private const long Kibibyte = 1024;

    // Folders that many programs share: what lies in one belongs to none of them.
    private static readonly ImmutableArray<WindowsPath> Shared =
        [WindowsPath.Of(@"Program Files\Common Files"), WindowsPath.Of(@"Program Files (x86)\Common Files")];

    private static readonly HashSet<string> SharedInProfiles = new(
        ["", "AppData", @"AppData\Local", @"AppData\LocalLow", @"AppData\Roaming", @"AppData\Local\Programs", @"AppData\Local\Microsoft", "Desktop",
            "Documents", "Downloads"], StringComparer.OrdinalIgnoreCase);

    /// <summary>The programs below a key; those that are parts of others, or have no name, are not listed by Windows either. [seen]</summary>
    /// <param name="account">Whose hive it is; null for the machine's.</param>
    internal static IEnumerable<DesktopProgram> Read(IRegistry hive, string place, Account? account)
    {
        foreach (var key in hive.Find(place)?.Children() ?? [])
        {
            if (key.Text("DisplayName") is not { Length: > 0 } name || key.Value("SystemComponent")?.AsDWord() == 1
            || key.Text("ParentKeyName") is { Length: > 0 })
                continue;
            string? uninstall = NotEmpty("UninstallString"), quiet = NotEmpty("QuietUninstallString");
            yield return new DesktopProgram(
                name, key.Text("DisplayVersion") ?? "", key.Text("Publisher") ?? "", (key.Value("EstimatedSize")?.AsDWord() ?? 0) * Kibibyte,
                uninstall, account?.Sid)
            {
                Key = $@"{place}\{key.Name}",
                QuietCommand = quiet,
                IsInstallerProduct = key.Value("WindowsInstaller")?.AsDWord() == 1 && Guid.TryParseExact(key.Name, "B", out _),
                Folder = new[] { CommandLine.Path(NotEmpty("InstallLocation") ?? "", account?.Profile) }
                    .Concat(new[] { quiet, uninstall }.OfType<string>().Select(c => CommandLine.Program(c, account?.Profile)?.Parent))
                    .FirstOrDefault(f => f is { HasShortName: false } folder && IsOwn(folder)),
            };

            string? NotEmpty(string value) => key.Text(value) is { Length: > 0 } text ? text : null;
        }
    }

    /// <summary>True if a folder can be that of one program alone.</summary>
    private static bool IsOwn(WindowsPath folder) => folder.Depth > 1 && !Shared.Contains(folder) && !folder.IsBelow(Places.Windows)
        && !(folder.IsBelow(Places.Users) && SharedInProfiles.Contains(string.Join('\\', folder.Names.Skip(2))));

    /// <summary>Gives each program what starts it, and adds those that install themselves for new accounts.</summary>
    /// <param name="programs">As they were read.</param>
    /// <returns>The programs, sorted by name.</returns>
    internal static ImmutableArray<DesktopProgram> With(IEnumerable<DesktopProgram> programs, IEnumerable<StartEntry> starts)
    {
        var listed = programs.DistinctBy(p => p with { Key = null }).ToList();
        var started = new Dictionary<DesktopProgram, List<StartEntry>>(ReferenceEqualityComparer.Instance);
        var coming = new List<StartEntry>();
        foreach (var start in starts)
        {
            var owner = start.Program is not { } file ? null
                : listed.Where(p => p.Folder is { } folder && file.IsBelow(folder) && (p.Sid is null || start.Sid is null || p.Sid == start.Sid))
                    .MaxBy(p => p.Folder!.Value.Depth)
                    // What installs it again for an account that has it.
                    ?? listed.Find(p => start.Scope == TraceScope.Account && p.Sid == start.Sid && IsSetupOf(file.Name, p));
            if (owner is not null && (owner.IsMachines || start.Scope != TraceScope.Newcomers))
                (started.TryGetValue(owner, out var own) ? own : started[owner] = []).Add(start);
            else if (start.Scope == TraceScope.Newcomers && Installs(start))
                coming.Add(start);
        }
        // One setup program is one program, however many entries start it.
        var newcomers = coming.GroupBy(s => s.Program?.Name ?? s.Name, StringComparer.OrdinalIgnoreCase).Select(g =>
        {
            var known = listed.Find(p => !p.IsMachines && IsSetupOf(g.Key, p)) ?? listed.Find(p => IsSetupOf(g.Key, p));
            return new DesktopProgram(known?.Name ?? g.First().Name, "", known?.Publisher ?? "", 0, null, null) { Newcomers = true, Starts = [.. g] };
        });
        return [.. listed.Select(p => started.TryGetValue(p, out var own) ? p with { Starts = [.. own] } : p).Concat(newcomers)
            .OrderBy(p => p.Name, StringComparer.OrdinalIgnoreCase).ThenBy(p => p.Newcomers).ThenBy(p => p.Sid, StringComparer.Ordinal)];

        // Most components of Active Setup set Windows itself up for an account.
        bool Installs(StartEntry start) => start.Kind != StartKind.ActiveSetup
            || (start.Program is { } file && (!file.IsBelow(Places.Windows) || listed.Exists(p => IsSetupOf(file.Name, p))));
    }

    /// <summary>True if a setup program is what a program is removed by, or what its key is named after.</summary>
    private static bool IsSetupOf(string file, DesktopProgram program) =>
        file.EndsWith(".exe", StringComparison.OrdinalIgnoreCase)
        && (program.Key?.EndsWith('\\' + file, StringComparison.OrdinalIgnoreCase) == true
            || new[] { program.UninstallCommand, program.QuietCommand }.OfType<string>().Any(c => CommandLine.Words(c).Program is var used
                && used[(used.LastIndexOf('\\') + 1)..].Equals(file, StringComparison.OrdinalIgnoreCase)));
}
