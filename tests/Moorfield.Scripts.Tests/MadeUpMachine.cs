using System.Collections;
using System.Collections.Immutable;
using System.Management.Automation;
using System.Text.RegularExpressions;
using Moorfield.Formats.Appx;
using Moorfield.Formats.Hives;
using Moorfield.StandIn;
using Moorfield.Tests;
using Shouldly;

namespace Moorfield.Scripts.Tests;

/// <summary>A package of the made-up machine, as the system's own commands tell of it.</summary>
public sealed class MadeUpPackage(PackageFullName fullName, string place)
{
    public PackageFullName FullName => fullName;

    public string Place => place;

    public bool IsFramework { get; init; }

    public bool IsResource { get; init; }

    public bool IsOptional { get; init; }

    public bool NonRemovable { get; set; }

    public bool IsComponent { get; init; }

    public ImmutableArray<string> Needs { get; init; } = [];

    /// <summary>What goes along: the parts of a bundle.</summary>
    public PackageFullName? Bundle { get; set; }

    public HashSet<string> Users { get; } = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>Whom it leaves when they sign in next.</summary>
    public HashSet<string> Leaving { get; } = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>States of accounts that are told instead of those that they are in.</summary>
    public Dictionary<string, string> States { get; } = new(StringComparer.OrdinalIgnoreCase);
}

/// <summary>What removing a family ends with.</summary>
/// <param name="Code">An HRESULT.</param>
/// <param name="Times">How often, before it goes.</param>
/// <param name="Cause">Another one that its text names; 0 for none.</param>
public sealed record MadeUpFailure(uint Code, int Times, uint Cause = 0);

/// <summary>
/// A running Windows that is made up: a registry, a folder for its drive, packages, and what the system's own commands do to them as far as it
/// is documented. It is laid out from a volume of the stand-in.
/// </summary>
public sealed class MadeUpMachine
{
    public const string Store = @"HKEY_LOCAL_MACHINE\SOFTWARE\Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore";
    private const string MachinePackages =
        @"HKEY_LOCAL_MACHINE\SOFTWARE\Classes\Local Settings\Software\Microsoft\Windows\CurrentVersion\AppModel\PackageRepository\Packages";

    private const string AccountPackages = @"Local Settings\Software\Microsoft\Windows\CurrentVersion\AppModel\Repository\Packages";
    private const string AccountFamilies = @"Local Settings\Software\Microsoft\Windows\CurrentVersion\AppModel\Repository\Families";
    private readonly List<string> _calls = [];

    private MadeUpMachine(string drive) => Drive = drive;

    /// <summary>The folder that is C:.</summary>
    public string Drive { get; }

    public RegistryNode Registry { get; } = new("");

    public List<MadeUpPackage> Packages { get; } = [];

    /// <summary>Hives of those who are not signed in, by the path of their files.</summary>
    public Dictionary<string, RegistryNode> Hives { get; } = new(StringComparer.OrdinalIgnoreCase);

    public List<(string Sid, string Profile)> Accounts { get; } = [];

    public Dictionary<string, MadeUpFailure> Failures { get; } = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>Families that say that they went, and did not.</summary>
    public HashSet<string> Clinging { get; } = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>Registry paths, and folders, that nobody may look into.</summary>
    public HashSet<string> Hidden { get; } = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>Registry paths that nobody may write.</summary>
    public HashSet<string> ReadOnly { get; } = new(StringComparer.OrdinalIgnoreCase);

    public List<(int Number, DateTime Time)> RestorePoints { get; } = [];

    public bool HasProtection { get; set; } = true;

    public DateTime Now { get; set; } = new(2026, 10, 5, 9, 0, 0, DateTimeKind.Utc);

    public Dictionary<string, string> StartNames { get; } = [];

    /// <summary>Whether the machine's own commands for packages fail.</summary>
    public bool IsBroken { get; set; }

    /// <summary>Families whose packages end the whole listing.</summary>
    public HashSet<string> Corrupt { get; } = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>Whether removals for accounts that are signed out wait for them, and whether the state of such packages says so.</summary>
    public bool Defers { get; set; }

    public bool TellsDeferred { get; set; } = true;

    /// <summary>Names below HKEY_USERS that something has a key of open: they cannot be unmounted.</summary>
    public HashSet<string> Open { get; } = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>Tasks, by path and name, as they were given.</summary>
    public SortedDictionary<string, string> Tasks { get; } = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>How often a task that was started is still told as running when its state is asked for.</summary>
    public int TaskLasts { get; set; }

    /// <summary>Runs the action of a task as whom it is for, who is signed in.</summary>
    internal void RunTask(string name, bool constrained = false)
    {
        string xml = Tasks[name];
        var time = TimeSpan.FromSeconds(1);
        string words = System.Net.WebUtility.HtmlDecode(Regex.Match(xml, "(?<=<Arguments>).*(?=</Arguments>)", RegexOptions.None, time).Value);
        var match = Regex.Match(words, "-File \"(?<file>C:\\\\Program Files\\\\Moorfield\\\\[^\"]+)\"(?<rest>.*)$", RegexOptions.None, time);
        match.Success.ShouldBeTrue(words);
        string before = Runner;
        Runner = Regex.Matches(xml, "(?<=<UserId>)[^<]+", RegexOptions.None, time)[^1].Value;
        if (Runner == "S-1-5-18" || IsSignedIn(Runner))
        {
            var result = Shell.Run(this, File.ReadAllBytes(At(match.Groups["file"].Value)), match.Groups["rest"].Value, constrained);
            Runner = before;
            if (KilledAt > 0 && _changes >= KilledAt)
                throw new PipelineStoppedException(); // the machine went down with it
            result.Errors.ShouldBeEmpty(name);
        }
        Runner = before;
        _running = TaskLasts;
    }

    /// <summary>The state of a task, in the words of the system.</summary>
    internal string StateOf(string name) => Tasks.ContainsKey(name) && _running-- > 0 ? "Running" : "Ready";

    private int _running;

    /// <summary>Number and text of what was written into the event log.</summary>
    public List<(int Number, string Text)> Events { get; } = [];

    /// <summary>Rights of files and folders in the system's own notation, where they are not those of folders of programs.</summary>
    public Dictionary<string, string> Rights { get; } = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>Who runs what is run.</summary>
    public string Runner { get; set; } = "S-1-5-18";

    /// <summary>How many scripts were started.</summary>
    public int Runs { get; set; }

    /// <summary>Number and start of the processes that run besides the shell.</summary>
    public Dictionary<int, DateTime> Processes { get; } = [];

    /// <summary>Ends the run at that change; 0 for never.</summary>
    public int KilledAt { get; set; }

    /// <summary>Done at that change, beside the run that makes it; 0 for never.</summary>
    public int BesideAt { get; set; }

    public Action? Beside { get; set; }

    /// <summary>Files that something was fetched into.</summary>
    public List<string> Fetched { get; } = [];

    private int _changes;

    /// <summary>What addresses give.</summary>
    public Dictionary<string, byte[]> Web { get; } = [];

    /// <summary>What running a program does, by its path.</summary>
    public Dictionary<string, Func<string, int>> Programs { get; } = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>Everything that changes something, in order.</summary>
    public IReadOnlyList<string> Calls => _calls;

    public void Forget()
    {
        _calls.Clear();
        _changes = 0;
    }

    internal void Tell(string call)
    {
        if (++_changes == KilledAt)
            throw new PipelineStoppedException(); // no script can catch it
        _calls.Add(call);
        if (_changes != BesideAt || Runner != "S-1-5-18")
            return;
        (int killedAt, int changes) = (KilledAt, _changes);
        BesideAt = KilledAt = 0;
        Beside!();
        (KilledAt, _changes) = (killedAt, changes);
    }

    /// <summary>A text with the machine's variables in place of their names.</summary>
    internal static string Expand(string text) => Regex.Replace(text, "%(?<name>[A-Za-z()0-9]+)%",
        m => Environment.GetEnvironmentVariables().Cast<DictionaryEntry>()
            .FirstOrDefault(v => m.Groups["name"].Value.Equals((string)v.Key, StringComparison.OrdinalIgnoreCase)).Value as string ?? m.Value,
        RegexOptions.None, TimeSpan.FromSeconds(1));

    internal bool IsHidden(string path) => Hidden.Any(h => path.StartsWith(h, StringComparison.OrdinalIgnoreCase));

    internal bool IsReadOnly(string path) => ReadOnly.Any(h => path.StartsWith(h, StringComparison.OrdinalIgnoreCase));

    internal static MadeUpMachine In(SessionState state) => state.PSVariable.GetValue("MadeUp") switch
    {
        PSObject { BaseObject: MadeUpMachine machine } => machine,
        MadeUpMachine machine => machine,
        _ => throw new InvalidOperationException("There is no machine."),
    };

    public RegistryNode Software => Registry.Create(@"HKEY_LOCAL_MACHINE\SOFTWARE");

    public static MadeUpMachine From(World world, TemporaryFolder folder, string name = "machine")
    {
        VolumeBuilder.Build(world, folder[name]);
        return FromVolume(folder[name], world);
    }

    /// <summary>The system of a volume, running: all accounts are signed in.</summary>
    public static MadeUpMachine FromVolume(string root, World? world = null)
    {
        var machine = new MadeUpMachine(root);
        var local = machine.Registry.Create("HKEY_LOCAL_MACHINE");
        local.Keys["SOFTWARE"] = Load(root, "Windows/System32/config/SOFTWARE", "SOFTWARE");
        var system = Load(root, "Windows/System32/config/SYSTEM", "SYSTEM");
        local.Keys["SYSTEM"] = system;
        system.Keys["CurrentControlSet"] = system.Find("ControlSet001")!.Copy("CurrentControlSet");
        system.Create(@"CurrentControlSet\Control\ProductOptions").Values["ProductType"] = HiveValue.FromString("ProductType", "WinNT");
        var users = machine.Registry.Create("HKEY_USERS");
        users.Create(@"S-1-5-18\Software");
        users.Create(@"S-1-5-19\Software");
        foreach (var key in machine.Software.Find(@"Microsoft\Windows NT\CurrentVersion\ProfileList")!.Keys.Values)
        {
            if (!key.Name.StartsWith("S-1-5-21-", StringComparison.Ordinal))
                continue;
            string profile = key.Values["ProfileImagePath"].AsString()!;
            machine.Accounts.Add((key.Name, profile));
            machine.Hives[$@"{profile}\NTUSER.DAT"] = Load(root, Linux(profile) + "/NTUSER.DAT", key.Name);
            machine.Hives[$@"{profile}\UsrClass.dat"] =
                Load(root, Linux(profile) + "/AppData/Local/Microsoft/Windows/UsrClass.dat", key.Name + "_Classes");
            machine.SignIn(key.Name);
        }
        if (File.Exists(Path.Combine(root, "Users/Default/NTUSER.DAT")))
            machine.Hives[@"C:\Users\Default\NTUSER.DAT"] = Load(root, "Users/Default/NTUSER.DAT", "Default");
        machine.AddPackages();
        foreach (var package in world?.Packages ?? [])
        {
            string family = world!.Family(package.Name);
            foreach (var app in (package.Apps ?? []).Where(a => !a.Hidden))
                machine.StartNames[$"{family}!{app.Id}"] = app.Display ?? package.Display;
        }
        return machine;
    }

    private static string Linux(string path) => path.Replace(@"C:\", "", StringComparison.OrdinalIgnoreCase).Replace('\\', '/');

    public string At(string windowsPath) => Path.Combine(Drive, Linux(windowsPath));

    private static RegistryNode Load(string root, string path, string name)
    {
        using var file = File.OpenHandle(Path.Combine(root, path));
        using var hive = Hive.OpenRead(file);
        return RegistryNode.From(hive.Root, name);
    }

    public void SignIn(string sid)
    {
        string profile = Accounts.First(a => a.Sid == sid).Profile;
        Registry.Create("HKEY_USERS").Keys[sid] = Hives[$@"{profile}\NTUSER.DAT"];
        Registry.Create("HKEY_USERS").Keys[sid + "_Classes"] = Hives[$@"{profile}\UsrClass.dat"];
        foreach (var package in Packages.Where(p => p.Leaving.Contains(sid)).ToList())
            Leave(package, sid);
    }

    internal bool IsSignedIn(string sid) => Registry.Find($@"HKEY_USERS\{sid}") is not null;

    public void SignOut(string sid)
    {
        Registry.Create("HKEY_USERS").Keys.Remove(sid);
        Registry.Create("HKEY_USERS").Keys.Remove(sid + "_Classes");
    }

    /// <summary>The account's own hive, whether it is signed in or not; null for that of new accounts.</summary>
    public RegistryNode OwnHive(string? sid) =>
        Hives[$@"{(sid is null ? @"C:\Users\Default" : Accounts.First(a => a.Sid == sid).Profile)}\NTUSER.DAT"];

    private RegistryNode ClassesHive(string sid) => Hives[$@"{Accounts.First(a => a.Sid == sid).Profile}\UsrClass.dat"];

    private void AddPackages()
    {
        var found = new List<MadeUpPackage>();
        foreach (string folder in Directory.GetDirectories(At(@"C:\Program Files\WindowsApps")).Order(StringComparer.Ordinal))
        {
            if (!PackageFullName.TryParse(Path.GetFileName(folder), out var fullName))
                continue;
            string place = $@"C:\Program Files\WindowsApps\{fullName}";
            if (fullName.IsBundle)
            {
                found.Add(new MadeUpPackage(fullName, place));
                continue;
            }
            using var stream = File.OpenRead(Path.Combine(folder, "AppxManifest.xml"));
            var manifest = AppxManifestReader.Read(stream);
            found.Add(new MadeUpPackage(fullName, place)
            {
                IsFramework = manifest.IsFramework,
                IsResource = manifest.IsResourcePackage,
                IsOptional = manifest.IsOptional,
                Needs = [.. manifest.Dependencies.Where(d => !d.IsOptional).Select(d => d.Name)],
            });
        }
        foreach (string folder in Directory.GetDirectories(At(@"C:\Windows\SystemApps")).Order(StringComparer.Ordinal))
        {
            using var stream = File.OpenRead(Path.Combine(folder, "AppxManifest.xml"));
            var manifest = AppxManifestReader.Read(stream);
            found.Add(new MadeUpPackage(manifest.Identity.FullName, $@"C:\Windows\SystemApps\{Path.GetFileName(folder)}")
            {
                IsComponent = true,
                NonRemovable = true,
                Needs = [.. manifest.Dependencies.Where(d => !d.IsOptional).Select(d => d.Name)],
            });
        }
        foreach (var package in found)
        {
            package.Bundle = found.FirstOrDefault(b => b.FullName.IsBundle && b.FullName.Family == package.FullName.Family && b != package)?.FullName;
            foreach (var (sid, _) in Accounts)
            {
                if (ClassesHive(sid).Find($@"{AccountPackages}\{package.FullName}") is not null)
                    package.Users.Add(sid);
            }
        }
        Packages.AddRange(found);
    }

    // ---- What the system's own commands do.

    internal IEnumerable<string> Provisioned => [.. Registry.Find(Store + @"\Applications")?.Keys.Keys ?? Enumerable.Empty<string>()];

    private IEnumerable<MadeUpPackage> Along(MadeUpPackage package) =>
        Packages.Where(p => p == package || (!p.IsFramework && p.FullName.Family == package.FullName.Family)).ToList();

    internal void RemovePackage(string fullName, string? sid, bool allUsers)
    {
        if (Packages.Find(p => p.FullName.ToString().Equals(fullName, StringComparison.OrdinalIgnoreCase)) is not { } package)
            throw Failed(0x80073CF1, fullName);
        string family = package.FullName.Family.ToString();
        Fail(family);
        if (package.NonRemovable)
            throw Failed(0x80073CFA, fullName);
        if (package.IsFramework && Packages.Any(p => p.Needs.Contains(package.FullName.Name) && p.Users.Count > 0))
            throw Failed(0x80073CF3, fullName);
        if (!allUsers && !package.Users.Contains(sid ?? ""))
            throw Failed(0x80073CF1, fullName);
        if (Clinging.Contains(family))
            return;
        foreach (var part in Along(package))
        {
            foreach (string user in allUsers ? [.. part.Users] : part.Users.Where(u => u.Equals(sid, StringComparison.OrdinalIgnoreCase)).ToList())
                Take(part, user);
            if (part.Users.Count + part.Leaving.Count == 0 && !Provisioned.Any(p => PackageFullName.TryParse(p,
                out var name) && name.Family == part.FullName.Family))
                Unstage(part);
        }
    }

    /// <summary>From an account that is signed out it goes later, on builds that defer it.</summary>
    private void Take(MadeUpPackage part, string sid)
    {
        if (!Defers || IsSignedIn(sid))
        {
            Unregister(part, sid);
            return;
        }
        part.Users.Remove(sid);
        part.Leaving.Add(sid);
        Registry.Create($@"{Store}\EndOfLife\{sid}\{part.FullName}");
    }

    private void Leave(MadeUpPackage part, string sid)
    {
        part.Leaving.Remove(sid);
        Unregister(part, sid);
        Registry.Delete($@"{Store}\EndOfLife\{sid}\{part.FullName}");
        if (part.Users.Count + part.Leaving.Count == 0
            && !Provisioned.Any(p => PackageFullName.TryParse(p, out var name) && name.Family == part.FullName.Family))
            Unstage(part);
    }

    private void Unregister(MadeUpPackage part, string sid)
    {
        part.Users.Remove(sid);
        ClassesHive(sid).Delete($@"{AccountPackages}\{part.FullName}");
        ClassesHive(sid).Delete($@"{AccountFamilies}\{part.FullName.Family}");
        Registry.Delete($@"{Store}\{sid}\{part.FullName}");
        string data = At($@"{Accounts.First(a => a.Sid == sid).Profile}\AppData\Local\Packages\{part.FullName.Family}");
        if (Directory.Exists(data))
            Directory.Delete(data, recursive: true);
    }

    private void Unstage(MadeUpPackage part)
    {
        Packages.Remove(part);
        Registry.Delete($@"{MachinePackages}\{part.FullName}");
        if (Directory.Exists(At(part.Place)))
            Directory.Delete(At(part.Place), recursive: true);
    }

    internal void RemoveProvisioned(string fullName, bool allUsers)
    {
        if (!Provisioned.Contains(fullName, StringComparer.OrdinalIgnoreCase) || !PackageFullName.TryParse(fullName, out var name))
            throw Failed(0x80070002, fullName);
        Fail(name.Family.ToString());
        Registry.Delete($@"{Store}\Applications\{fullName}");
        Registry.Create($@"{Store}\Deprovisioned\{name.Family}"); // from 1803 on [seen]
        foreach (var part in Packages.Where(p => p.FullName.Family == name.Family).ToList())
        {
            foreach (string user in allUsers ? part.Users.ToList() : [])
                Take(part, user);
            if (part.Users.Count + part.Leaving.Count == 0)
                Unstage(part);
        }
    }

    internal void Register(string manifest, string sid)
    {
        string place = manifest[..manifest.LastIndexOf('\\')];
        if (Packages.Find(p => p.Place.Equals(place, StringComparison.OrdinalIgnoreCase)) is not { } package || !File.Exists(At(manifest)))
            throw Failed(0x80073CF1, manifest);
        package.Users.Add(sid);
        if (Accounts.All(a => a.Sid != sid))
            return; // the system's own account has no profile here
        ClassesHive(sid).Create($@"{AccountPackages}\{package.FullName}");
    }

    private void Fail(string family)
    {
        if (Failures.GetValueOrDefault(family) is not { Times: > 0 } failure)
            return;
        Failures[family] = failure with { Times = failure.Times - 1 };
        throw failure.Cause == 0 ? Failed(failure.Code, family) : Failed(failure.Code, $"{family} (Ursache 0x{failure.Cause:x8})");
    }

    // Texts are in the machine's language.
    private static MadeUpException Failed(uint code, string what) =>
        new($"Fehler bei der Bereitstellung mit HRESULT: 0x{code:X8}, {what}. Weitere Informationen finden Sie im Ereignisprotokoll.", code);

    /// <summary>What reg.exe does and prints, in a machine's language that is not English and a code page that has ASCII only.</summary>
    internal (int Code, string[] Lines) Reg(string[] arguments)
    {
        if (arguments is not ["query", ..])
            Tell("reg.exe " + string.Join(' ', arguments));
        // The old shell does not protect quotation marks from the program's own reading of its command line.
        arguments = [.. arguments.Select(a => a.Replace("\"", "", StringComparison.Ordinal)).Where(a => a.Length > 0)];
        string Path(string key) => key.StartsWith(@"HKU\", StringComparison.Ordinal) || key == "HKU" ? "HKEY_USERS" + key[3..] : key;
        switch (arguments)
        {
            case ["load", var key, var file]:
                string name = Path(key)["HKEY_USERS\\".Length..];
                if (!Hives.TryGetValue(file, out var hive) || Registry.Find(Path(key)) is not null || IsInUse(hive))
                    return (1, []);
                Registry.Create("HKEY_USERS").Keys[name] = hive;
                return (0, []);
            case ["save", var key, var file, "/y"]:
                Hives[file] = Registry.Find(Path(key.Replace("HKLM", "HKEY_LOCAL_MACHINE", StringComparison.Ordinal)))!.Copy();
                File.WriteAllBytes(At(file), []);
                return (0, []);
            case ["unload", var key]:
                string mounted = Path(key)["HKEY_USERS\\".Length..];
                return (!Open.Contains(mounted) && Registry.Create("HKEY_USERS").Keys.Remove(mounted) ? 0 : 1, []);
            case ["query", var key]:
                return Registry.Find(Path(key)) is not { } asked ? (1, []) : (0, [.. asked.Keys.Keys.Select(k => $@"{Path(key)}\{k}")]);
            case ["query", var key, .. var which]:
                return IsHidden(Path(key)) || Registry.Find(Path(key))?.Values.GetValueOrDefault(which is ["/v",
                    var v] ? v : "") is not { } value ? (1, [])
                    : (0, ["", Path(key), Printed($"    {(value.Name.Length == 0 ? "(Standard)" : value.Name)}    {Typed(value)}"), ""]);
            case ["add", var key, .. var which] when which[^1] == "/f" && Array.IndexOf(which, "/t") is >= 0 and var at:
                if (IsReadOnly(Path(key)))
                    return (1, []);
                string named = which[0] == "/v" ? which[1] : "";
                Registry.Create(Path(key)).Values[named] = Value(named, which[at + 1], which[at + 2] == "/d" ? which[at + 3] : "");
                return (0, []);
            case ["delete", var key, .. var which] when which[^1] == "/f":
                return (!IsReadOnly(Path(key)) && Registry.Find(Path(key))?.Values.Remove(which[0] == "/v" ? which[1] : "") == true ? 0 : 1, []);
            default:
                throw new InvalidOperationException($"reg.exe {string.Join(' ', arguments)}");
        }
    }

    private static string Printed(string line) => string.Concat(line.Select(c => c < 128 ? c : '?'));

    private static string Typed(HiveValue value) => value.Type switch
    {
        HiveValueType.DWord => $"REG_DWORD    0x{value.AsDWord():x}",
        HiveValueType.QWord => $"REG_QWORD    0x{BitConverter.ToUInt64(value.Data.Span):x}",
        HiveValueType.String => $"REG_SZ    {value.AsString()}",
        HiveValueType.ExpandString => $"REG_EXPAND_SZ    {value.AsString()}",
        HiveValueType.MultiString => $"REG_MULTI_SZ    {string.Join(@"\0", value.AsStrings()!)}",
        HiveValueType.Binary => $"REG_BINARY    {Convert.ToHexString(value.Data.Span)}",
        _ => "REG_NONE    ",
    };

    private static HiveValue Value(string name, string type, string text) => type switch
    {
        "REG_DWORD" => HiveValue.FromDWord(name, Convert.ToUInt32(text, 16)),
        "REG_QWORD" => HiveValue.FromQWord(name, Convert.ToUInt64(text, 16)),
        "REG_SZ" => HiveValue.FromString(name, text),
        "REG_EXPAND_SZ" => HiveValue.FromString(name, text, HiveValueType.ExpandString),
        "REG_MULTI_SZ" => HiveValue.FromStrings(name, text.Split(@"\0", StringSplitOptions.RemoveEmptyEntries)),
        "REG_BINARY" => new HiveValue(name, HiveValueType.Binary, Convert.FromHexString(text)),
        _ => throw new InvalidOperationException(type),
    };

    private bool IsInUse(RegistryNode hive) => Registry.Create("HKEY_USERS").Keys.Values.Contains(hive);
}

/// <summary>A failure with the code of the system.</summary>
public sealed class MadeUpException : Exception
{
    public MadeUpException(string message, uint code) : base(message) => HResult = unchecked((int)code);
}
