using System.IO.Compression;
using System.Text.Json;
using System.Text.Json.Serialization;

namespace Moorfield.StandIn;

/// <summary>The made-up system that the stand-in lays out, as read from <c>demo/world.json</c>.</summary>
/// <param name="Clock">The time that every file and registration gets.</param>
/// <param name="SystemFiles">How many files to lay out that belong to no package.</param>
public sealed record World(
    DateTimeOffset Clock, string Computer, string Manufacturer, string Model, string MachineGuid, string Product, string Edition, string Release,
    string Build, uint Revision, int SystemFiles, ImmutableArray<WorldAccount> Accounts, ImmutableDictionary<string, WorldPublisher> Publishers,
    ImmutableArray<WorldPackage> Packages, ImmutableArray<WorldFamily> Blocked, ImmutableArray<WorldLeftover> Leftovers,
    ImmutableArray<string> Pins, ImmutableArray<WorldChoice> Chosen, ImmutableArray<WorldProgram> Programs, ImmutableArray<WorldEdition> Editions)
{
    /// <summary>The packages' entries in its hives.</summary>
    [JsonIgnore]
    public HiveShape Shape { get; init; } = HiveShape.Usual;

    /// <summary>The machine's site in its directory; null for none.</summary>
    public string? Site { get; init; }

    /// <summary>The changes of the coming release.</summary>
    public WorldUpdate? Update { get; init; }

    /// <summary>Apps that install themselves.</summary>
    public ImmutableArray<WorldDelivery> Delivered { get; init; } = [];

    /// <summary>The entries that install programs at an account's first sign-in.</summary>
    public ImmutableArray<WorldStart> FirstSignIn { get; init; } = [];

    /// <summary>The world that is built into the program.</summary>
    public static World Load()
    {
        using var stream = typeof(World).Assembly.GetManifestResourceStream("world.json")!;
        return Load(stream);
    }

    /// <summary>File names of the demo's briefs.</summary>
    public static IEnumerable<string> BriefNames => Briefs("");

    private const string Rings = "rings/";

    private static IEnumerable<string> Briefs(string folder) =>
        typeof(World).Assembly.GetManifestResourceNames().Where(n => n.EndsWith(".brief.yaml", StringComparison.Ordinal)
            && n.StartsWith(folder, StringComparison.Ordinal) && !n[folder.Length..].Contains('/', StringComparison.Ordinal))
            .Order(StringComparer.Ordinal);

    /// <summary>Writes the demo's briefs into a folder.</summary>
    /// <returns>Their paths.</returns>
    public static ImmutableArray<string> WriteBriefs(string folder) => WriteBriefs(folder, BriefNames);

    /// <summary>Writes the briefs of the demo's rings into a folder.</summary>
    public static void WriteRings(string folder) => WriteBriefs(folder, Briefs(Rings));

    private static ImmutableArray<string> WriteBriefs(string folder, IEnumerable<string> names)
    {
        var paths = ImmutableArray.CreateBuilder<string>();
        foreach (string name in names)
        {
            using var brief = typeof(World).Assembly.GetManifestResourceStream(name)!;
            using var file = File.Create(Path.Combine(folder, Path.GetFileName(name)));
            brief.CopyTo(file);
            paths.Add(file.Name);
        }
        return paths.ToImmutable();
    }

    /// <summary>File names of the demo's recipe, and of the file that it adds to the medium.</summary>
    public static ImmutableArray<string> RecipeNames { get; } = ["counters.recipe.yaml", "answers.xml"];

    /// <summary>Writes the demo's recipe and the file that it adds.</summary>
    /// <param name="sha256">Of the vendor's medium.</param>
    public static void WriteRecipe(string folder, string sha256)
    {
        using var recipe = new StreamReader(typeof(World).Assembly.GetManifestResourceStream(RecipeNames[0])!);
        File.WriteAllText(Path.Combine(folder, RecipeNames[0]), recipe.ReadToEnd().Replace(new string('0', 64), sha256, StringComparison.Ordinal));
        File.WriteAllText(Path.Combine(folder, RecipeNames[1]), "<answers>Saltmarsh Ferries, ticket counters</answers>\n");
    }

    /// <summary>File names of the demo's surveys of running machines. Tests make them, with the script of Moorfield on a made-up machine.</summary>
    public static IEnumerable<string> SurveyNames =>
        typeof(World).Assembly.GetManifestResourceNames().Where(n => n.EndsWith(".json.gz", StringComparison.Ordinal)).Order(StringComparer.Ordinal)
            .Select(n => n[..^3]);

    /// <summary>Writes the demo's surveys into a folder.</summary>
    /// <returns>Their paths.</returns>
    public static ImmutableArray<string> WriteSurveys(string folder)
    {
        var paths = ImmutableArray.CreateBuilder<string>();
        foreach (string name in SurveyNames)
        {
            using var packed = typeof(World).Assembly.GetManifestResourceStream(name + ".gz")!;
            using var survey = new GZipStream(packed, CompressionMode.Decompress);
            using var file = File.Create(Path.Combine(folder, name));
            survey.CopyTo(file);
            paths.Add(file.Name);
        }
        return paths.ToImmutable();
    }

    public static World Load(Stream stream)
    {
        var world = JsonSerializer.Deserialize(stream, WorldJson.Default.World)!;
        return world with { Programs = [.. world.Programs.Select(p => p.Placed)] };
    }

    /// <summary>This world as one edition of an install image: no accounts, nothing that only accounts have, no maker's marks.</summary>
    public World As(WorldEdition edition) => this with
    {
        Computer = "",
        Manufacturer = "",
        Model = "",
        MachineGuid = "",
        Site = null,
        Product = edition.Product,
        Edition = edition.Edition,
        Accounts = [],
        Packages = [.. Packages.Where(p => (p.Provisioned || p.IsFramework || p.IsComponent) && !edition.Without.Contains(p.Name))
        .Select(p => p with { For = null })],
        Leftovers = [],
        Chosen = [],
        Programs = [],
        Pins = [.. Pins.Where(pin => !edition.Without.Contains(pin) && Packages.Any(p => p.Name == pin && p.Provisioned))],
    };

    /// <summary>
    /// This world with so many packages and accounts: its own over and over under other names, every account with what the first ones have.
    /// </summary>
    public World Many(int packages, int accounts)
    {
        var people = Enumerable.Range(0, accounts)
            .Select(i => new WorldAccount($"person{i:D3}", $"S-1-5-21-1000000000-2000000000-3000000000-{1001 + i}")).ToList();
        var applications = Packages.Where(p => p.Kind is null or "application" && p.Extends is null).ToList();
        var others = Packages.Where(p => p.Kind is "framework" or "component").ToList();
        var many = Enumerable.Range(0, Math.Max(0, packages - others.Count))
            .Select(i => (Of: applications[i % applications.Count], Copy: i / applications.Count))
            .Select(p => p.Of with
            {
                Name = $"{p.Of.Name}{p.Copy}",
                Display = $"{p.Of.Display} {p.Copy}",
                Kib = 8,
                Data = null,
                For = [.. people.Where((_, i) => (i + p.Copy) % 3 != 0).Select(a => a.Name)],
                Needs = [.. (p.Of.Needs ?? []).Where(n => others.Exists(o => o.Name == n))],
                Wants = null,
            });
        return this with
        {
            SystemFiles = 600,
            Accounts = [.. people],
            Packages = [.. others.Select(p => p with { For = [.. people.Select(a => a.Name)] }), .. many],
            Leftovers = [],
            Chosen = [],
            Programs = [],
            FirstSignIn = [],
            Pins = [],
        };
    }

    /// <summary>This world in its coming release.</summary>
    /// <exception cref="InvalidDataException">It has none.</exception>
    public World Updated()
    {
        var update = Update ?? throw new InvalidDataException("world.json has no update");
        return this with
        {
            Release = update.Release,
            Build = update.Build,
            Revision = update.Revision,
            SystemFiles = update.SystemFiles,
            Packages = [.. Packages.Where(p => !update.Without.Contains(p.Name)).Select(Renewed), .. update.Packages],
            Pins = [.. Pins.Where(p => !update.Without.Contains(p))],
            Update = null,
        };

        WorldPackage Renewed(WorldPackage package)
        {
            var version = update.Versions.GetValueOrDefault(package.Name);
            return package with
            {
                Version = package.IsComponent ? update.SystemVersion : version?.Version ?? package.Version,
                Bundle = version?.Bundle ?? package.Bundle,
                Provisioned = package.Provisioned || update.Returns.Contains(package.Name),
            };
        }
    }

    internal string PublisherId(string key) => Formats.Appx.PublisherId.FromPublisher(Publishers[key].Dn);

    /// <summary>The family name of a package of this world.</summary>
    public string Family(string packageName) => $"{packageName}_{PublisherId(Packages.First(p => p.Name == packageName).By)}";
}

/// <summary>The changes of the coming release of a made-up system.</summary>
/// <param name="SystemVersion">Version of all parts of the system.</param>
/// <param name="SystemFiles">How many files its images have that belong to no package.</param>
/// <param name="Versions">New versions of packages, by name.</param>
/// <param name="Returns">Names of packages that are not provisioned, and are with it.</param>
/// <param name="Without">Names of packages that it lacks.</param>
/// <param name="Packages">That it has in addition.</param>
public sealed record WorldUpdate(
    string Release, string Build, uint Revision, string SystemVersion, int SystemFiles, ImmutableDictionary<string, WorldVersion> Versions,
    ImmutableArray<string> Returns, ImmutableArray<string> Without, ImmutableArray<WorldPackage> Packages);

/// <param name="Bundle">Of its bundle; null when it has none.</param>
public sealed record WorldVersion(string Version, string? Bundle);

/// <summary>An app that installs itself.</summary>
/// <param name="How">suggested, partner or maker.</param>
public sealed record WorldDelivery(string How, WorldPackage Package);

/// <summary>A policy value that a part of the system looks at before it comes back.</summary>
/// <param name="Hive">machine or account.</param>
public sealed record WorldPolicy(string Hive, string Key, string Name, uint Data);

/// <summary>One edition of an install image.</summary>
/// <param name="Edition">The EditionID.</param>
/// <param name="Without">Names of packages that it lacks.</param>
public sealed record WorldEdition(string Name, string Description, string Product, string Edition, ImmutableArray<string> Without);

public sealed record WorldAccount(string Name, string Sid);

/// <param name="Dn">X.500 distinguished name.</param>
public sealed record WorldPublisher(string Dn, string Display);

public sealed record WorldFamily(string Name, string By);

/// <summary>An account's choice of what to open a file type or link with.</summary>
/// <param name="Package">Name of a package that opens it; null for a desktop program.</param>
/// <param name="Program">ProgId of a desktop program.</param>
public sealed record WorldChoice(string Account, string What, string? Package, string? Program);

/// <summary>A desktop program. Of paths, {profile} is the account's folder.</summary>
/// <param name="Account">The account that has it; null when the machine has it.</param>
/// <param name="Bits32">Whether it is listed under WOW6432Node.</param>
/// <param name="Hidden">True if it is marked as a system component, so that Windows does not list it.</param>
/// <param name="Opens">File types with their dot, and schemes.</param>
public sealed record WorldProgram(
    string Id, string Name, string Version, string By, uint Kib, string? Uninstall, string? Account, bool Bits32, bool Hidden,
    ImmutableArray<string>? Opens)
{
    /// <summary>The command that removes it without asking.</summary>
    public string? Quiet { get; init; }

    /// <summary>The folder with its files; null when none are laid out.</summary>
    public string? Folder { get; init; }

    /// <summary>True if its identifier is the product code of Windows Installer.</summary>
    public bool Product { get; init; }

    /// <summary>The folder whose files it keeps the same as elsewhere: the person's own.</summary>
    public string? SyncFolder { get; init; }

    public ImmutableArray<WorldStart>? Starts { get; init; }

    internal WorldProgram Placed => Account is not { } name ? this : this with
    {
        Uninstall = At(Uninstall),
        Quiet = At(Quiet),
        Folder = At(Folder),
        SyncFolder = At(SyncFolder),
        Starts = Starts is { } starts ? [.. starts.Select(s => s with { Command = At(s.Command)! })] : null,
    };

    private string? At(string? text) => text?.Replace("{profile}", $@"C:\Users\{Account}", StringComparison.Ordinal);
}

/// <summary>Something that starts a program, or installs one at a first sign-in.</summary>
/// <param name="How">run, runOnce, shortcut, task, service or activeSetup.</param>
/// <param name="Command">For a shortcut its target.</param>
/// <param name="Off">True if it is switched off.</param>
/// <param name="Setup">The setup program's file, to be laid out; null for none.</param>
public sealed record WorldStart(string How, string Name, string Command, bool Off = false, string? Setup = null);

/// <param name="What">registrationWithoutFiles, filesWithoutRegistration, provisionedWithoutFolder, appData, alias, handler, choice,
/// defaultAssociation, pin, manifestCopy or repositoryRow.</param>
/// <param name="Detail">The file type or scheme, or the alias.</param>
public sealed record WorldLeftover(string What, string Name, string By, string Version, string Display, ImmutableArray<string>? For, int Kib,
    string? Detail = null);

/// <param name="Kind">application (default), framework, component or addon.</param>
/// <param name="Bundle">Version of the bundle; null when the package comes alone.</param>
/// <param name="Kib">Size of all its files.</param>
/// <param name="For">Accounts that have it.</param>
/// <param name="Resources">Resource ids of the bundle's resource members.</param>
public sealed record WorldPackage(
    string Name, string By, string Version, string Display, string? About, int Kib, string? Kind, string? Architecture, string? Bundle,
    bool Provisioned, ImmutableArray<string>? For, ImmutableArray<string>? Needs, ImmutableArray<string>? Resources, string? Extends,
    ImmutableArray<WorldApp>? Apps, ImmutableArray<string>? Capabilities)
{
    /// <summary>Names of packages that it does less without.</summary>
    public ImmutableArray<string>? Wants { get; init; }

    /// <summary>Names of other packages' services, classes or applications that its manifest holds.</summary>
    public ImmutableArray<string>? Asks { get; init; }

    /// <summary>Custom capabilities, as makers' companions of drivers have them.</summary>
    public ImmutableArray<string>? Devices { get; init; }

    /// <summary>The policy value by which a part of the system is kept from coming back; null when there is none.</summary>
    public WorldPolicy? Honours { get; init; }

    /// <summary>Accounts for which Windows has marked it to be cleaned up.</summary>
    public ImmutableArray<string>? EndOfLife { get; init; }

    /// <summary>KiB of a person's own files in it, by account.</summary>
    public ImmutableDictionary<string, int>? Data { get; init; }

    /// <summary>Its display name and what it is about in German; null when it speaks English only.</summary>
    public ImmutableArray<string>? German { get; init; }

    internal const string NameText = "AppName", AboutText = "AppDescription";

    // Packages of Windows itself keep their texts in their resources; many others write them into the manifest.
    private bool HasResources => By == "northlight" && !IsFramework;

    /// <summary>A manifest's notation of a text: the text itself, or a reference to it.</summary>
    internal string Refer(string name, string text) => HasResources ? $"ms-resource:{name}" : text;

    /// <summary>The texts in its resources, by name.</summary>
    internal IReadOnlyList<(string Name, string Text)> Texts(bool german)
    {
        if (!HasResources)
            return [];
        var texts = new List<(string, string)> { (NameText, german ? German!.Value[0] : Display) };
        if (About is not null)
            texts.Add((AboutText, german ? German!.Value[1] : About));
        if (!german)
            texts.AddRange((Apps ?? []).Where(a => a.TextName != NameText).Select(a => (a.TextName, a.Display ?? Display)));
        return texts;
    }

    internal bool IsComponent => Kind == "component";

    internal bool IsFramework => Kind == "framework";

    internal string ProcessorArchitecture => Architecture ?? (IsComponent ? "neutral" : "x64");

    internal PackageFullName FullName(World world) => Part(world, Version, ProcessorArchitecture, IsComponent ? "neutral" : "");

    internal PackageFullName? BundleName(World world) => Bundle is null ? null : Part(world, Bundle, "neutral", PackageFullName.BundleResourceId);

    internal IEnumerable<PackageFullName> ResourceNames(World world) => (Resources ?? []).Select(r => Part(world, Version, "neutral", r));

    private PackageFullName Part(World world, string version, string architecture, string resourceId) =>
        PackageFullName.TryParse($"{Name}_{version}_{architecture}_{resourceId}_{world.PublisherId(By)}", out var fullName)
            ? fullName
            : throw new InvalidDataException($"world.json: {Name} has no proper identity");
}

public sealed record WorldApp(
    string Id, string? Display, bool Hidden, ImmutableArray<string>? Types, ImmutableArray<string>? Schemes, ImmutableArray<string>? Startup,
    ImmutableArray<string>? Aliases, bool Background, bool Share, string? Service, string? ComClass = null)
{
    /// <summary>Name of its display name among the package's texts.</summary>
    internal string TextName => Display is null ? WorldPackage.NameText : $"{Id}Name";
}

[JsonSourceGenerationOptions(PropertyNameCaseInsensitive = true)]
[JsonSerializable(typeof(World))]
[JsonSerializable(typeof(Shapes))]
internal sealed partial class WorldJson : JsonSerializerContext;
