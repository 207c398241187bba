using System.Buffers.Binary;
using System.Xml.Linq;

namespace Moorfield.StandIn;

/// <summary>Lays out desktop programs, what starts them, and what installs itself at a first sign-in.</summary>
internal sealed class ProgramLayout(World world)
{
    private const string Version = @"Microsoft\Windows\CurrentVersion", View32 = @"WOW6432Node\";
    private const string Components = @"Microsoft\Active Setup\Installed Components";
    private const string Explorer = @"Software\Microsoft\Windows\CurrentVersion\Explorer";
    private const int MostKib = 96;

    private IEnumerable<WorldProgram> Of(string? account) => world.Programs.Where(p => p.Account == account);

    internal void FillSoftware(Hive hive)
    {
        foreach (var program in Of(null))
            AddEntry(hive, $@"{(program.Bits32 ? View32 : "")}{Version}\Uninstall", program);
        foreach (var (start, program) in Starts(null))
            AddRun(hive, program.Bits32 ? View32 + Version : Version, start, isPersons: false);
        foreach (var start in world.Programs.SelectMany(p => p.Starts ?? []).Concat(world.FirstSignIn).Where(s => s.How == "activeSetup"))
        {
            RegistryLayout.Set(hive, $@"{Components}\{{{new Guid(RegistryLayout.ProgId(start.Name)[4..])}}}", HiveValue.FromString("", start.Name),
                HiveValue.FromString("StubPath", start.Command), HiveValue.FromString("Version", "1,0,0,0"), HiveValue.FromDWord("IsInstalled", 1));
        }
    }

    internal void FillSystem(Hive hive)
    {
        foreach (var start in world.Programs.SelectMany(p => p.Starts ?? []).Where(s => s.How == "service"))
        {
            RegistryLayout.Set(hive, $@"ControlSet001\Services\{start.Name}",
                HiveValue.FromString("ImagePath", start.Command, HiveValueType.ExpandString), HiveValue.FromDWord("Type", 0x10),
                HiveValue.FromDWord("Start", 2));
        }
        RegistryLayout.Set(hive, @"ControlSet001\Services\NorthlightTime",
            HiveValue.FromString("ImagePath", @"%SystemRoot%\System32\nltime.exe", HiveValueType.ExpandString), HiveValue.FromDWord("Start", 2));
    }

    /// <param name="account">Null for the profile that new accounts get.</param>
    internal void FillAccount(Hive hive, WorldAccount? account)
    {
        if (account is null)
        {
            foreach (var start in world.FirstSignIn.Where(s => s.How is "run" or "runOnce"))
                AddRun(hive, $@"Software\{Version}", start, isPersons: false);
            return;
        }
        foreach (var program in Of(account.Name))
        {
            AddEntry(hive, $@"Software\{Version}\Uninstall", program);
            if (program.SyncFolder is { } folder)
            {
                RegistryLayout.Set(hive, $@"{Explorer}\Desktop\NameSpace\{ClassId(program)}", HiveValue.FromString("", program.Name));
                RegistryLayout.Set(hive, $@"{Explorer}\SyncRootManager\{program.Id[..^4]}!{account.Sid}",
                    HiveValue.FromString("DisplayNameResource", program.Name), HiveValue.FromString("IconResource", Icon(program)));
                RegistryLayout.Set(hive, $@"{Explorer}\SyncRootManager\{program.Id[..^4]}!{account.Sid}\UserSyncRoots",
                    HiveValue.FromString(account.Sid, folder));
                RegistryLayout.Set(hive, $@"{Explorer}\User Shell Folders",
                    HiveValue.FromString("Personal", $@"%USERPROFILE%\{Path.GetFileName(folder.Replace('\\', '/'))}\Documents",
                        HiveValueType.ExpandString));
            }
        }
        foreach (var (start, _) in Starts(account.Name))
            AddRun(hive, $@"Software\{Version}", start, isPersons: true);
    }

    /// <summary>Adds to the classes of an account its folders that programs synchronise, as the file manager shows them.</summary>
    internal void FillClasses(Hive hive, WorldAccount account)
    {
        foreach (var program in Of(account.Name).Where(p => p.SyncFolder is not null))
        {
            string place = $@"CLSID\{ClassId(program)}";
            RegistryLayout.Set(hive, place, HiveValue.FromString("", program.Name), HiveValue.FromDWord("System.IsPinnedToNameSpaceTree", 1));
            RegistryLayout.Set(hive, $@"{place}\DefaultIcon", HiveValue.FromString("", Icon(program), HiveValueType.ExpandString));
            RegistryLayout.Set(hive, $@"{place}\InProcServer32",
                HiveValue.FromString("", @"%SystemRoot%\System32\shell32.dll", HiveValueType.ExpandString));
            RegistryLayout.Set(hive, $@"{place}\Instance\InitPropertyBag", HiveValue.FromString("TargetFolderPath", program.SyncFolder!));
            RegistryLayout.Set(hive, $@"Directory\shellex\ContextMenuHandlers\{program.Id[..^4]}", HiveValue.FromString("", ClassId(program)));
        }
    }

    private static string ClassId(WorldProgram program) => $"{{{new Guid(RegistryLayout.ProgId(program.Id)[4..])}}}";

    private static string Icon(WorldProgram program) => $@"{program.Folder}\{program.Id},-101";

    private IEnumerable<(WorldStart Start, WorldProgram Program)> Starts(string? account) =>
        Of(account).SelectMany(p => (p.Starts ?? []).Where(s => s.How is "run" or "runOnce").Select(s => (s, p)));

    private static void AddEntry(Hive hive, string place, WorldProgram program)
    {
        var key = hive.Create($@"{place}\{program.Id}");
        key.Set(HiveValue.FromString("DisplayName", program.Name));
        key.Set(HiveValue.FromString("DisplayVersion", program.Version));
        key.Set(HiveValue.FromString("Publisher", program.By));
        key.Set(HiveValue.FromDWord("EstimatedSize", program.Kib));
        foreach (var (name, text) in new[]
            { ("UninstallString", program.Uninstall), ("QuietUninstallString", program.Quiet), ("InstallLocation", program.Folder) })
        {
            if (text is not null)
                key.Set(HiveValue.FromString(name, text));
        }
        if (program.Hidden)
            key.Set(HiveValue.FromDWord("SystemComponent", 1));
        if (program.Product)
            key.Set(HiveValue.FromDWord("WindowsInstaller", 1));
    }

    /// <param name="isPersons">True in an account's own hive, where the list of start-up programs tells which are on.</param>
    private void AddRun(Hive hive, string version, WorldStart start, bool isPersons)
    {
        RegistryLayout.Set(hive, $@"{version}\{(start.How == "run" ? "Run" : "RunOnce")}", HiveValue.FromString(start.Name, start.Command));
        if (start.How != "run" || !isPersons)
            return;
        byte[] state = new byte[12];
        state[0] = (byte)(start.Off ? 3 : 2);
        if (start.Off)
            BinaryPrimitives.WriteInt64LittleEndian(state.AsSpan(4), world.Clock.ToFileTime());
        RegistryLayout.Set(hive, $@"{version}\Explorer\StartupApproved\Run", new HiveValue(start.Name, HiveValueType.Binary, state));
    }

    /// <summary>The files of the programs, of their tasks and shortcuts, and those that people keep with one.</summary>
    internal IEnumerable<(string Path, byte[] Content)> Files()
    {
        foreach (var program in world.Programs)
        {
            if (program.Folder is not { } folder)
                continue;
            string name = Path.GetFileNameWithoutExtension(program.Id.Replace('{', '-').Replace("}", "", StringComparison.Ordinal));
            int rest = (int)Math.Min(program.Kib, MostKib) * 1024;
            yield return (Unix($@"{folder}\{name}.exe"), Filler.Bytes(folder + "exe", rest / 2));
            yield return (Unix($@"{folder}\{name}.dll"), Filler.Bytes(folder + "dll", rest / 4));
            yield return (Unix($@"{folder}\Parts\{name}.dat"), Filler.Bytes(folder + "dat", rest / 4));
            foreach (string file in Commands(program).Where(f => f != $@"{folder.TrimEnd('\\')}\{name}.exe"))
                yield return (Unix(file), Filler.Bytes(file, 700));
            if (program.SyncFolder is { } kept)
                yield return (Unix($@"{kept}\sailings.ods"), Filler.Bytes(kept, 9_000));
            if (program.Account is { } owner)
                yield return ($"Users/{owner}/AppData/Roaming/Microsoft/Windows/Start Menu/Programs/{program.By}/{program.Name}.lnk",
                    Shortcut($@"{folder}\{name}.exe", ""));
            string startUp = program.Account is { } account ? $"Users/{account}/AppData/Roaming/Microsoft/Windows/Start Menu/Programs/Startup"
                : "ProgramData/Microsoft/Windows/Start Menu/Programs/StartUp";
            foreach (var start in program.Starts ?? [])
            {
                if (start.How == "shortcut")
                    yield return ($"{startUp}/{start.Name}.lnk", Shortcut(start.Command, "/tray"));
                if (start.How == "task")
                    yield return ($"Windows/System32/Tasks/{start.Name}", Task(start, world.Accounts.FirstOrDefault(a => a.Name == program.Account)));
            }
        }
        foreach (var start in world.FirstSignIn.Where(s => s.Setup is not null))
            yield return (Unix(start.Setup!), Filler.Bytes(start.Name, 24_000));
    }

    /// <summary>The files in its folder that remove it, or that something starts.</summary>
    private static IEnumerable<string> Commands(WorldProgram program) => (program.Starts ?? []).Select(s => s.Command)
        .Concat(new[] { program.Uninstall, program.Quiet }.OfType<string>()).Where(c => c.Contains(program.Folder!, StringComparison.Ordinal))
        .Select(c => c[..(c.IndexOf(".exe", StringComparison.Ordinal) + 4)].TrimStart('"')).Distinct();

    private static string Unix(string path) => path[3..].Replace('\\', '/');

    /// <summary>A shortcut to a local file, as the shell writes it, but without the list of items.</summary>
    private static byte[] Shortcut(string target, string arguments)
    {
        byte[] head = new byte[0x4C];
        BinaryPrimitives.WriteInt32LittleEndian(head, head.Length);
        new Guid("00021401-0000-0000-C000-000000000046").TryWriteBytes(head.AsSpan(4));
        BinaryPrimitives.WriteInt32LittleEndian(head.AsSpan(20), 0x2 | 0x20 | 0x80); // link information, arguments, Unicode
        byte[] narrow = [.. Encoding.Latin1.GetBytes(target), 0], wide = [.. Encoding.Unicode.GetBytes(target), 0, 0];
        const int Header = 0x24, Volume = 0x11;
        byte[] info = new byte[Header + Volume + narrow.Length + 1 + wide.Length + 2];
        int place = Header + Volume;
        int[] fields = [info.Length, Header, 1, Header, place, 0, place + narrow.Length, place + narrow.Length + 1, info.Length - 2];
        for (int i = 0; i < fields.Length; i++)
            BinaryPrimitives.WriteInt32LittleEndian(info.AsSpan(4 * i), fields[i]);
        foreach (var (at, number) in new[] { (0, Volume), (4, 3), (12, 0x10) }) // size, fixed disk, empty label
            BinaryPrimitives.WriteInt32LittleEndian(info.AsSpan(Header + at), number);
        narrow.CopyTo(info, place);
        wide.CopyTo(info, place + narrow.Length + 1);
        byte[] count = new byte[2];
        BinaryPrimitives.WriteUInt16LittleEndian(count, (ushort)arguments.Length);
        return [.. head, .. info, .. count, .. Encoding.Unicode.GetBytes(arguments), 0, 0, 0, 0];
    }

    private static byte[] Task(WorldStart start, WorldAccount? account)
    {
        XNamespace schema = "http://schemas.microsoft.com/windows/2004/02/mit/task";
        string command = start.Command.Trim('"');
        var task = new XElement(schema + "Task", new XAttribute("version", "1.2"),
            new XElement(schema + "Triggers", new XElement(schema + "LogonTrigger", new XElement(schema + "Enabled", "true"))),
            new XElement(schema + "Principals", new XElement(schema + "Principal", new XAttribute("id", "Author"),
                new XElement(schema + "UserId", account?.Sid ?? "S-1-5-18"))),
            new XElement(schema + "Settings", new XElement(schema + "Enabled", start.Off ? "false" : "true")),
            new XElement(schema + "Actions", new XAttribute("Context", "Author"),
                new XElement(schema + "Exec", new XElement(schema + "Command", command))));
        return [.. Encoding.Unicode.Preamble, .. Encoding.Unicode.GetBytes($"<?xml version=\"1.0\" encoding=\"UTF-16\"?>\r\n{task}")];
    }
}
