using System.IO.Enumeration;
using Microsoft.Data.Sqlite;

namespace Moorfield.StandIn;

/// <summary>An account of a laid-out system.</summary>
/// <param name="Profile">Name of its folder below Users.</param>
internal sealed record LaidOutAccount(string Sid, string Profile);

/// <summary>
/// A laid-out system at work: lays packages out, provisions and registers them in all the places where Windows does, as <see cref="VolumeBuilder"/>
/// does at first. Nothing is written but files until <see cref="Save"/>.
/// </summary>
internal sealed class InstalledWindows : IDisposable
{
    private const string Applications = RegistryLayout.Store + @"\Applications";
    private const string Inbox = RegistryLayout.Store + @"\InboxApplications";
    private readonly string _root;
    private readonly DateTimeOffset _time;
    private readonly Dictionary<string, Hive> _hives = new(StringComparer.Ordinal);
    private readonly List<LaidOutPackage> _packages;
    private readonly List<LaidOutAccount> _accounts;
    private SqliteConnection? _rows;
    private SqliteTransaction? _transaction;

    internal InstalledWindows(string root, DateTimeOffset time)
    {
        _root = root;
        _time = time;
        RefuseLinks(root);
        _packages = LaidOutPackage.ReadAll(root);
        _accounts = [.. Names(RegistryLayout.Profiles).Where(sid => sid.StartsWith("S-1-5-21-", StringComparison.Ordinal))
            .Select(sid => new LaidOutAccount(sid, Software.Find($@"{RegistryLayout.Profiles}\{sid}")?.Text("ProfileImagePath")?.Split('\\')[^1]
                ?? ""))
            .Where(a => IsPlain(a.Profile) && Directory.Exists(Full($"Users/{a.Profile}")))];
    }

    internal Hive Software => Open("Windows/System32/config/SOFTWARE");

    /// <summary>An account's own hive, to be changed.</summary>
    internal Hive UserHive(LaidOutAccount account) => Open($"Users/{account.Profile}/NTUSER.DAT");

    /// <summary>True if a file is there.</summary>
    /// <param name="path">With a drive letter and backslashes.</param>
    internal bool HasFile(string path) => File.Exists(Full(path[3..].Replace('\\', '/')));

    internal IReadOnlyList<LaidOutPackage> Packages => _packages;

    internal IReadOnlyList<LaidOutAccount> Accounts => _accounts;

    internal string Root => _root;

    /// <summary>How many packages were laid out, registrations made, and packages taken away.</summary>
    internal (int LaidOut, int Registered, int Gone) Count { get; private set; }

    internal bool IsBlocked(PackageFamilyName family) =>
    Names(RegistryLayout.Store + @"\Deprovisioned").Contains(family.ToString(), StringComparer.OrdinalIgnoreCase);

    internal bool IsProvisioned(LaidOutPackage package) =>
    Names(Applications).Contains(package.Registered.ToString(), StringComparer.OrdinalIgnoreCase);

    internal bool IsInbox(LaidOutPackage package) => Names(Inbox).Contains(package.Main.ToString(), StringComparer.OrdinalIgnoreCase);

    internal bool IsRegistered(LaidOutPackage package, LaidOutAccount account) => package.Manifest.IsFramework
        ? ClassesOf(account).Find($@"{RegistryLayout.AccountRepository}\Packages\{package.Main}") is not null
        : EntriesOf(package, account).Any(e => Software.Find(e) is not null);

    private Hive ClassesOf(LaidOutAccount account) => Open($"Users/{account.Profile}/AppData/Local/Microsoft/Windows/UsrClass.dat");

    /// <summary>Its key, or those of a framework in the entries of the packages that need it.</summary>
    private IEnumerable<string> EntriesOf(LaidOutPackage package, LaidOutAccount account)
    {
        string place = $@"{RegistryLayout.Store}\{account.Sid}";
        return package.Manifest.IsFramework ? Names(place).Select(n => $@"{place}\{n}\{package.Registered}") : [$@"{place}\{package.Registered}"];
    }

    private IEnumerable<LaidOutPackage> Frameworks(LaidOutPackage package)
    {
        foreach (string name in package.Manifest.Dependencies.Where(d => !d.IsOptional).Select(d => d.Name))
        {
            var there = _packages.Where(p => p.Manifest.IsFramework && p.Main.Name == name).ToList();
            foreach (var framework in there.Where(p => p.Main.Version == there.Max(t => t.Main.Version)))
                yield return framework;
        }
    }

    /// <summary>A policy value of the machine (no profile), or of an account's or the default profile; null when it is not there.</summary>
    internal uint? Policy(string? profile, string key, string name)
    {
        if (profile is null)
            return Software.Find(key)?.Value(name)?.AsDWord();
        using var file = File.OpenRead(Full($"Users/{profile}/NTUSER.DAT"));
        using var hive = WindowsSimulator.Naming(file.Name, () => Hive.OpenRead(file.SafeFileHandle));
        return hive.Find(key)?.Value(name)?.AsDWord();
    }

    internal void LayOut(LaidOutPackage package, string from)
    {
        foreach (string path in package.Paths)
            Copy(Path.Combine(from, path), Full(path));
        foreach (var part in package.Parts)
            RegistryLayout.Set(Software, $@"{RegistryLayout.MachinePackages}\{part}",
                HiveValue.FromString("Path", RegistryLayout.Place(part, package.IsComponent)));
        AddRows(package);
        _packages.Add(package);
        Count = Count with { LaidOut = Count.LaidOut + 1 };
    }

    internal void Provision(LaidOutPackage package)
    {
        string entry = $@"{(package.IsComponent ? Inbox : Applications)}\{package.Registered}";
        RegistryLayout.Set(Software, entry, HiveValue.FromString("Path", RegistryLayout.ManifestPlace(package.Registered, package.IsComponent)));
        foreach (var framework in package.IsComponent ? [] : Frameworks(package))
            RegistryLayout.AddFramework(Software, entry, framework.Main);
    }

    internal void Deprovision(LaidOutPackage package)
    {
        Delete(Software, $@"{Applications}\{package.Registered}");
        Delete(Software, $@"{Inbox}\{package.Main}");
    }

    internal void Register(LaidOutPackage package, LaidOutAccount account)
    {
        if (IsRegistered(package, account))
            return;
        if (!package.Manifest.IsFramework)
        {
            string entry = EntriesOf(package, account).Single();
            Software.Create(entry);
            foreach (var framework in Frameworks(package))
                RegistryLayout.AddFramework(Software, entry, framework.Main);
        }
        string local = $"Users/{account.Profile}/AppData/Local";
        var classes = ClassesOf(account);
        foreach (var part in package.Parts)
        {
            RegistryLayout.AddRegistration(classes, part, package.Display, package.IsComponent, _time);
            Run("INSERT OR IGNORE INTO PackageUser(Package, User) SELECT _PackageID, (SELECT _UserID FROM User WHERE UserSid = $sid) FROM Package "
                + "WHERE PackageFullName = $name", ("$sid", account.Sid), ("$name", part.ToString()));
        }
        foreach (var framework in Frameworks(package).Where(f => f.Main.Architecture == (package.Main.Architecture is "neutral" ? "x64"
            : package.Main.Architecture)))
            Register(framework, account);
        foreach (var app in package.Manifest.Applications)
        {
            ImmutableArray<string> opens = [.. Values(app, "windows.fileTypeAssociation"), .. Values(app, "windows.protocol")];
            var entries = new ShapeWriter(package.Main, app.Id, opens);
            entries.Write(classes, HiveShape.Usual.Classes);
            entries.Write(Open($"Users/{account.Profile}/NTUSER.DAT"), HiveShape.Usual.User);
            foreach (string what in opens)
                RegistryLayout.AddHandler(classes, package.Family, app.Id, what, package.Display, package.Manifest.PublisherDisplayName ?? "");
            foreach (string alias in Values(app, "windows.appExecutionAlias").Where(IsPlain))
            {
                string place = Full($"{local}/Microsoft/WindowsApps");
                Directory.CreateDirectory(Path.Combine(place, package.Family.ToString()));
                File.WriteAllBytes(Path.Combine(place, alias), []);
                File.WriteAllBytes(Path.Combine(place, package.Family.ToString(), alias), []);
            }
        }
        string data = Full($"{local}/Packages/{package.Family}");
        if (!package.Manifest.IsFramework && !Directory.Exists(data))
            VolumeBuilder.AddAppData(data);
        Count = Count with { Registered = Count.Registered + 1 };
    }

    internal void Unregister(LaidOutPackage package, LaidOutAccount account)
    {
        foreach (string entry in EntriesOf(package, account).ToList())
            Delete(Software, entry);
        var classes = ClassesOf(account);
        foreach (var part in package.Parts)
        {
            Delete(classes, $@"{RegistryLayout.AccountRepository}\Packages\{part}");
            Delete(classes, $@"{RegistryLayout.AccountRepository}\Families\{part.Family}\{part}");
            DeleteRows(part, account.Sid);
        }
    }

    /// <summary>Takes a package away from everybody, with its files.</summary>
    internal void Remove(LaidOutPackage package)
    {
        foreach (var account in _accounts.Where(a => IsRegistered(package, a)))
            Unregister(package, account);
        Deprovision(package);
        foreach (var part in package.Parts)
        {
            Delete(Software, $@"{RegistryLayout.MachinePackages}\{part}");
            DeleteRows(part);
        }
        foreach (string path in package.Paths.Select(Full))
        {
            if (Directory.Exists(path))
                Directory.Delete(path, recursive: true);
            File.Delete(path);
        }
        _packages.Remove(package);
        Count = Count with { Gone = Count.Gone + 1 };
    }

    /// <summary>Makes an account from the default profile.</summary>
    internal LaidOutAccount AddAccount(string name)
    {
        string domain = _accounts.Count > 0 ? _accounts[0].Sid[.._accounts[0].Sid.LastIndexOf('-')] : "S-1-5-21-1004336348-1177238915-682003330";
        int number = _accounts.Select(a => int.Parse(a.Sid[(a.Sid.LastIndexOf('-') + 1)..], System.Globalization.CultureInfo.InvariantCulture))
            .Append(1000).Max() + 1;
        var account = new LaidOutAccount($"{domain}-{number}", name);
        Copy(Full("Users/Default"), Full($"Users/{name}"));
        string classes = Full($"Users/{name}/AppData/Local/Microsoft/Windows/UsrClass.dat");
        Directory.CreateDirectory(Path.GetDirectoryName(classes)!);
        File.WriteAllBytes(classes, MinimalHive.Create($"{account.Sid}_Classes", _time));
        RegistryLayout.Set(Software, $@"{RegistryLayout.Profiles}\{account.Sid}",
            HiveValue.FromString("ProfileImagePath", $@"C:\Users\{name}", HiveValueType.ExpandString));
        Run("INSERT INTO User(UserSid) VALUES ($sid)", ("$sid", account.Sid));
        _accounts.Add(account);
        return account;
    }

    internal void Save()
    {
        foreach (var (path, hive) in _hives)
            File.WriteAllBytes(Full(path), hive.ToArray());
        _transaction?.Commit();
    }

    private static IEnumerable<string> Values(AppxApplication app, string category) =>
    app.Extensions.Where(e => e.Category == category).SelectMany(e => e.Values);

    /// <summary>Everything below is written by path: no link may lead that elsewhere.</summary>
    private static void RefuseLinks(string root)
    {
        var links = new FileSystemEnumerable<string>(root, (ref entry) => entry.ToFullPath(),
        new EnumerationOptions { RecurseSubdirectories = true, AttributesToSkip = FileAttributes.None })
        {
            ShouldIncludePredicate = (ref entry) => entry.Attributes.HasFlag(FileAttributes.ReparsePoint),
            ShouldRecursePredicate = (ref entry) => !entry.Attributes.HasFlag(FileAttributes.ReparsePoint),
        };
        if (links.FirstOrDefault() is { } link)
            throw new InvalidDataException($"{link} is a link, and made-up volumes have none");
    }

    /// <summary>True if a name that a hive or a manifest gives leads nowhere else.</summary>
    private static bool IsPlain(string name) => name is not "" and not "." and not ".." && !name.Contains('/', StringComparison.Ordinal);

    private ImmutableArray<string> Names(string key) => [.. Software.Find(key)?.Children().Select(k => k.Name) ?? []];

    private string Full(string path) => Path.Combine(_root, path);

    private Hive Open(string path)
    {
        if (_hives.TryGetValue(path, out var hive))
            return hive;
        using var file = File.OpenHandle(Full(path));
        return _hives[path] = WindowsSimulator.Naming(Full(path), () => Hive.OpenWrite(file));
    }

    private static void Delete(Hive hive, string key) => hive.Find(key)?.Delete();

    private static void Copy(string from, string to)
    {
        if (File.Exists(from))
        {
            Directory.CreateDirectory(Path.GetDirectoryName(to)!);
            File.Copy(from, to, overwrite: true);
        }
        else if (Directory.Exists(from))
        {
            Directory.CreateDirectory(to);
            foreach (string entry in Directory.EnumerateFileSystemEntries(from))
                Copy(entry, Path.Combine(to, Path.GetFileName(entry)));
        }
    }

    private SqliteConnection Rows
    {
        get
        {
            if (_rows is not null)
                return _rows;
            _rows = new SqliteConnection(
                $"Data Source={Full("ProgramData/Microsoft/Windows/AppRepository/StateRepository-Machine.srd")};Mode=ReadWrite;Pooling=False");
            _rows.Open();
            // The function that only the system has.
            _rows.CreateFunction("srd_notify", (string table, long id) => id);
            _transaction = _rows.BeginTransaction();
            return _rows;
        }
    }

    private void AddRows(LaidOutPackage package)
    {
        Run("INSERT OR IGNORE INTO PackageFamily(PackageFamilyName, Publisher) VALUES ($family, $publisher)", ("$family", package.Family.ToString()),
        ("$publisher", package.Manifest.Identity.Publisher));
        foreach (var part in package.Parts)
        {
            DeleteRows(part);
            Run("INSERT INTO Package(PackageFullName, PackageFamily, PackageType, InstallTime) SELECT $name, _PackageFamilyID, $type, $time FROM "
                + "PackageFamily WHERE PackageFamilyName = $family",
                ("$name", part.ToString()), ("$type", part.IsBundle ? 8 : 1), ("$time", _time.ToFileTime()), ("$family", package.Family.ToString()));
        }
        foreach (var app in package.Manifest.Applications)
        {
            Run("INSERT INTO Application(Package, ApplicationUserModelId) SELECT _PackageID, $id FROM Package WHERE PackageFullName = $name",
            ("$id", $"{package.Family}!{app.Id}"), ("$name", package.Main.ToString()));
        }
    }

    /// <summary>The rows of one full name, for one account or altogether.</summary>
    private void DeleteRows(PackageFullName part, string? sid = null)
    {
        const string Registrations = "SELECT _PackageUserID FROM PackageUser WHERE Package IN (SELECT _PackageID FROM Package WHERE "
            + "PackageFullName = $name) AND ($sid IS NULL OR User IN (SELECT _UserID FROM User WHERE UserSid = $sid))";
        const string Apps = "SELECT _ApplicationID FROM Application WHERE Package IN (SELECT _PackageID FROM Package WHERE PackageFullName = $name)";
        string[] deletions =
        [
            $"PackageUserStatus WHERE PackageUser IN ({Registrations})",
            $"PackageUser WHERE _PackageUserID IN ({Registrations})",
            $"ApplicationUser WHERE Application IN ({Apps}) AND ($sid IS NULL OR User IN (SELECT _UserID FROM User WHERE UserSid = $sid))",
            .. sid is null
                ? [$"ApplicationExtension WHERE Application IN ({Apps})",
                    "Application WHERE Package IN (SELECT _PackageID FROM Package WHERE PackageFullName = $name)",
                    "Package WHERE PackageFullName = $name"]
                : Array.Empty<string>(),
        ];
        foreach (string deletion in deletions)
            Run($"DELETE FROM {deletion}", ("$name", part.ToString()), ("$sid", sid ?? (object)DBNull.Value));
    }

    private void Run(string sql, params (string Name, object Value)[] values)
    {
        using var command = Rows.CreateCommand();
        command.CommandText = sql;
        foreach (var (name, value) in values)
            command.Parameters.AddWithValue(name, value);
        command.ExecuteNonQuery();
    }

    public void Dispose()
    {
        _transaction?.Dispose();
        _rows?.Dispose();
        foreach (var hive in _hives.Values)
            hive.Dispose();
    }
}
