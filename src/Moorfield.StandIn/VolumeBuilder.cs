using System.Text.Json;
using System.Text.Json.Nodes;
using System.Xml.Linq;

namespace Moorfield.StandIn;

/// <summary>
/// Lays out an installed Windows volume of a made-up world in the real on-disk formats. The same world gives the same bytes and times.
/// </summary>
public sealed class VolumeBuilder
{
    private const int IndexLength = 24_000;
    private const string Apps = "Program Files/WindowsApps";
    private const string Repository = "ProgramData/Microsoft/Windows/AppRepository";
    private readonly World _world;
    private readonly string _root;
    private readonly RegistryLayout _registry;
    private readonly ManifestWriter _manifests;

    private VolumeBuilder(World world, string root)
    {
        _world = world;
        _root = root;
        _registry = new RegistryLayout(world);
        _manifests = new ManifestWriter(world);
    }

    /// <summary>Lays the volume out in a folder, which is made when it is missing.</summary>
    public static void Build(World world, string root) => new VolumeBuilder(world, root).Build();

    /// <summary>Lays out nothing but the files of packages of a world.</summary>
    internal static void BuildPackages(World world, IEnumerable<WorldPackage> packages, string root)
    {
        var builder = new VolumeBuilder(world, root);
        foreach (var package in packages)
            builder.AddPackage(package);
    }

    /// <summary>The full names that one package of the world puts on the disk.</summary>
    internal static IEnumerable<PackageFullName> Parts(World world, WorldPackage package) =>
        package.BundleName(world) is { } bundle
            ? [bundle, package.FullName(world), .. package.ResourceNames(world)]
            : [package.FullName(world)];

    private void Build()
    {
        Directory.CreateDirectory(_root);
        foreach (var package in _world.Packages)
            AddPackage(package);
        foreach (var leftover in _world.Leftovers)
            AddLeftover(leftover);
        AddHive("Windows/System32/config/SOFTWARE", "ROOT", _registry.FillSoftware);
        AddHive("Windows/System32/config/SYSTEM", "ROOT", _registry.FillSystem);
        AddProfile("Default", null);
        foreach (var account in _world.Accounts)
            AddProfile(account.Name, account);
        new StateRepositoryWriter(_world, _registry).Write(Full($"{Repository}/StateRepository-Machine.srd"));
        foreach (var (path, content) in new ProgramLayout(_world).Files())
            Write(path, content);
        AddDefaultAssociations();
        AddSystemFiles();
        // Resumed or cleanly shut down: no 'hibr' at the start. Nothing in an image ever ran.
        if (!_world.Accounts.IsEmpty)
            Write("hiberfil.sys", [.. "wake"u8, .. new byte[65532]]);
        SetTimes();
    }

    private void AddPackage(WorldPackage package)
    {
        var fullName = package.FullName(_world);
        byte[] manifest = _manifests.Write(package, fullName);
        string folder = package.IsComponent ? _world.Shape.FolderOf(fullName).Replace('\\', '/') : $"{Apps}/{fullName}";
        AddPackageFiles(folder, package.Name, manifest, package.Kib, package.Texts(german: false));
        if (!package.IsComponent)
            AddRepositoryEntry(fullName, manifest);
        foreach (var resource in package.ResourceNames(_world))
        {
            byte[] resourceManifest = _manifests.Write(package, resource, isResource: true);
            Write($"{Apps}/{resource}/AppxManifest.xml", resourceManifest);
            int length = Math.Max(4, package.Kib / 40) * 1024;
            string value = resource.ResourceId[(resource.ResourceId.LastIndexOf('-') + 1)..];
            bool isGerman = value == "de" && package.German is not null;
            Write($"{Apps}/{resource}/resources.pri", ResourceWriter.Write(
                package.Name, value, false, isGerman ? package.Texts(german: true) : [("Spare", "-")], length));
            AddRepositoryEntry(resource, resourceManifest);
        }
        if (package.BundleName(_world) is { } bundle)
        {
            byte[] bundleManifest = _manifests.WriteBundle(package);
            Write($"{Apps}/{bundle}/AppxMetadata/AppxBundleManifest.xml", bundleManifest);
            Write($"{Apps}/{bundle}/AppxSignature.p7x", Filler.Bytes(bundle.ToString(), 9_000));
            AddRepositoryEntry(bundle, bundleManifest);
        }
    }

    private void AddPackageFiles(string folder, string name, byte[] manifest, int kib, IReadOnlyList<(string, string)> texts)
    {
        Write($"{folder}/AppxManifest.xml", manifest);
        Write($"{folder}/AppxBlockMap.xml", Filler.Bytes(folder + "map", 2_000 + kib));
        Write($"{folder}/AppxSignature.p7x", Filler.Bytes(folder + "signature", 9_000));
        Write($"{folder}/Assets/Logo.png", Filler.Bytes(folder + "logo", 1_400));
        Write($"{folder}/Assets/Wide.png", Filler.Bytes(folder + "wide", 3_100));
        Write($"{folder}/resources.pri", texts.Count > 0 ? ResourceWriter.Write(name, "en-GB", true, texts, IndexLength)
            : Filler.Bytes(folder + "pri", IndexLength));
        int rest = Math.Max(8, kib - 45) * 1024;
        Write($"{folder}/{name}.exe", Filler.Bytes(folder + "exe", rest / 4));
        Write($"{folder}/{name}.dll", Filler.Bytes(folder + "dll", rest / 2));
        Write($"{folder}/Content/{name}.dat", Filler.Bytes(folder + "dat", rest / 4));
    }

    private void AddRepositoryEntry(PackageFullName fullName, byte[] manifest)
    {
        Write($"{Repository}/{fullName}.xml", manifest);
        Write($"{Repository}/Packages/{fullName}/ActivationStore.dat", Filler.Bytes(fullName.ToString(), 8192));
    }

    private void AddLeftover(WorldLeftover leftover)
    {
        if (leftover.What is not "filesWithoutRegistration" and not "manifestCopy")
            return;
        var package = new WorldPackage(leftover.Name, leftover.By, leftover.Version, leftover.Display, null, leftover.Kib, null, null, null, false,
            null, null, null, null, null, null);
        var fullName = package.FullName(_world);
        if (leftover.What == "manifestCopy")
            AddRepositoryEntry(fullName, _manifests.Write(package, fullName));
        else
            AddPackageFiles($"{Apps}/{fullName}", package.Name, _manifests.Write(package, fullName), leftover.Kib, package.Texts(german: false));
    }

    private void AddProfile(string folder, WorldAccount? account)
    {
        string home = $"Users/{folder}";
        string local = $"{home}/AppData/Local";
        AddHive($"{home}/NTUSER.DAT", "CMI-CreateHive{5C3A1F60-0000-4000-8000-000000000001}",
            hive => _registry.FillAccount(hive, account?.Sid ?? ""));
        if (account is null)
        {
            Write($"{local}/Microsoft/Windows/Shell/LayoutModification.json", Pins());
            return;
        }
        AddHive($"{local}/Microsoft/Windows/UsrClass.dat", $"{account.Sid}_Classes", hive => _registry.FillClasses(hive, account));
        foreach (var package in _world.Packages.Where(p => p.For?.Contains(account.Name) == true))
        {
            var family = package.FullName(_world).Family;
            AddAppData($"{local}/Packages/{family}", account, package.Data?.GetValueOrDefault(account.Name) ?? 0);
            foreach (string alias in (package.Apps ?? []).SelectMany(a => a.Aliases ?? []))
            {
                Write($"{local}/Microsoft/WindowsApps/{alias}", []);
                Write($"{local}/Microsoft/WindowsApps/{family}/{alias}", []);
            }
        }
        foreach (var leftover in _world.Leftovers.Where(l => l.For?.Contains(account.Name) == true))
        {
            string family = $"{leftover.Name}_{_world.PublisherId(leftover.By)}";
            if (leftover.What == "appData")
                AddAppData($"{local}/Packages/{family}", account, leftover.Kib);
            if (leftover.What == "alias")
            {
                Write($"{local}/Microsoft/WindowsApps/{leftover.Detail}", []);
                Write($"{local}/Microsoft/WindowsApps/{family}/{leftover.Detail}", []);
            }
        }
        Write($"{home}/Documents/sailings.txt", Encoding.UTF8.GetBytes($"Notes of {account.Name}\n"));
    }

    /// <summary>The layout that the system makes at the first start. [model]</summary>
    internal static void AddAppData(string folder)
    {
        foreach (string empty in new[] { "AC", "LocalCache", "LocalState", "RoamingState", "Settings", "SystemAppData", "TempState" })
            Directory.CreateDirectory(Path.Combine(folder, empty));
        File.WriteAllBytes(Path.Combine(folder, "Settings", "settings.dat"), Filler.Bytes(Path.GetFileName(folder), 8192));
    }

    /// <summary>The same, with a person's own files in it.</summary>
    private void AddAppData(string folder, WorldAccount account, int kib)
    {
        AddAppData(Full(folder));
        if (kib > 0)
            Write($"{folder}/LocalState/{account.Name}.dat", Filler.Bytes(folder + account.Name, kib * 1024));
    }

    private byte[] Pins()
    {
        var pins = new JsonArray([.. _world.Pins.Select(name => (JsonNode)new JsonObject
        {
            ["packagedAppId"] = $"{_world.Family(name)}!{_world.Packages.First(p => p.Name == name).Apps!.Value[0].Id}",
        })]);
        foreach (var leftover in _world.Leftovers.Where(l => l.What == "pin"))
            pins.Add((JsonNode)new JsonObject { ["packagedAppId"] = $"{leftover.Name}_{_world.PublisherId(leftover.By)}!App" });
        pins.Add((JsonNode)new JsonObject { ["desktopAppLink"] = @"%ALLUSERSPROFILE%\Microsoft\Windows\Start Menu\Programs\Ticket Printer.lnk" });
        return Encoding.UTF8.GetBytes(new JsonObject { ["pinnedList"] = pins }.ToJsonString(new JsonSerializerOptions { WriteIndented = true })
            + "\n");
    }

    private void AddDefaultAssociations()
    {
        var root = new XElement("DefaultAssociations");
        var given = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        foreach (var package in _world.Packages.Where(p => p.Provisioned && p.By == _world.Packages[0].By))
        {
            foreach (var app in package.Apps ?? [])
            {
                foreach (string what in (app.Types ?? []).Concat((app.Schemes ?? []).Where(s => s == "mailto")).Where(given.Add))
                    Add(what, _registry.ProgId(package, app, what), app.Display ?? package.Display);
            }
        }
        foreach (var program in _world.Programs)
        {
            foreach (string what in (program.Opens ?? []).Where(given.Add))
                Add(what, program.Id, program.Name);
        }
        foreach (var leftover in _world.Leftovers.Where(l => l.What == "defaultAssociation"))
            Add(leftover.Detail!, RegistryLayout.StrayProgId(leftover), leftover.Display);

        void Add(string what, string progId, string name) =>
            root.Add(new XElement("Association", new XAttribute("Identifier", what), new XAttribute("ProgId", progId),
                new XAttribute("ApplicationName", name)));

        Write("Windows/System32/OEMDefaultAssociations.xml", Encoding.UTF8.GetBytes($"<?xml version=\"1.0\" encoding=\"utf-8\"?>\n{root}\n"));
    }

    private void AddSystemFiles()
    {
        string[] places = ["Windows/System32", "Windows/System32/drivers", "Windows/SysWOW64", "Windows/WinSxS/Store", "Windows/Fonts",
        "Windows/INF"];
        for (int i = 0; i < _world.SystemFiles; i++)
            Write($"{places[i % places.Length]}/{i / 100:D3}/nl{i:D5}.dll", Filler.Bytes($"system{i}", 600 + i % 3400));
    }

    private void AddHive(string path, string rootName, Action<Hive> fill)
    {
        Write(path, MinimalHive.Create(rootName, _world.Clock));
        byte[] bytes;
        using (var file = File.OpenHandle(Full(path)))
        using (var hive = Hive.OpenWrite(file))
        {
            fill(hive);
            bytes = hive.ToArray();
        }
        Write(path, bytes);
    }

    private void Write(string path, ReadOnlySpan<byte> content)
    {
        string full = Full(path);
        Directory.CreateDirectory(Path.GetDirectoryName(full)!);
        File.WriteAllBytes(full, content);
    }

    private string Full(string path) => Path.Combine(_root, path);

    private void SetTimes()
    {
        foreach (string entry in Directory.EnumerateFileSystemEntries(_root, "*", SearchOption.AllDirectories).Append(_root))
            File.SetLastWriteTimeUtc(entry, _world.Clock.UtcDateTime);
    }
}
