using System.Collections.Immutable;
using System.Text.Json;
using System.Text.Json.Serialization;
using Moorfield.Formats.Appx;

namespace Moorfield.StandIn;

/// <summary>The made-up system that the stand-in lays out, as read from <c>demo/world.json</c>.</summary>
/// <param name="Clock">The time that every file and registration gets.</param>
/// <param name="SystemFiles">How many files to lay out that belong to no package.</param>
public sealed record World(
    DateTimeOffset Clock,
    string Computer,
    string Manufacturer,
    string Model,
    string MachineGuid,
    string Product,
    string Edition,
    string Release,
    string Build,
    uint Revision,
    int SystemFiles,
    ImmutableArray<WorldAccount> Accounts,
    ImmutableDictionary<string, WorldPublisher> Publishers,
    ImmutableArray<WorldPackage> Packages,
    ImmutableArray<WorldFamily> Blocked,
    ImmutableArray<WorldLeftover> Leftovers,
    ImmutableArray<string> Pins,
    ImmutableArray<WorldEdition> Editions)
{
    /// <summary>The world that is built into the program.</summary>
    public static World Load()
    {
        using var stream = typeof(World).Assembly.GetManifestResourceStream("world.json")!;
        return Load(stream);
    }

    public static World Load(Stream stream) => JsonSerializer.Deserialize(stream, WorldJson.Default.World)!;

    /// <summary>This world as one edition of an install image: no accounts, nothing that only accounts have, no maker's marks.</summary>
    public World As(WorldEdition edition) => this with
    {
        Computer = "",
        Manufacturer = "",
        Model = "",
        MachineGuid = "",
        Product = edition.Product,
        Edition = edition.Edition,
        Accounts = [],
        Packages = [.. Packages.Where(p => (p.Provisioned || p.IsFramework || p.IsComponent) && !edition.Without.Contains(p.Name)).Select(p => p with { For = null })],
        Leftovers = [],
        Pins = [.. Pins.Where(pin => !edition.Without.Contains(pin) && Packages.Any(p => p.Name == pin && p.Provisioned))],
    };

    internal string PublisherId(string key) => Formats.Appx.PublisherId.FromPublisher(Publishers[key].Dn);

    /// <summary>The family name of a package of this world.</summary>
    public string Family(string packageName) => $"{packageName}_{PublisherId(Packages.First(p => p.Name == packageName).By)}";
}

/// <summary>One edition of an install image.</summary>
/// <param name="Edition">The EditionID.</param>
/// <param name="Without">Names of packages that it lacks.</param>
public sealed record WorldEdition(string Name, string Description, string Product, string Edition, ImmutableArray<string> Without);

public sealed record WorldAccount(string Name, string Sid);

/// <param name="Dn">X.500 distinguished name.</param>
public sealed record WorldPublisher(string Dn, string Display);

public sealed record WorldFamily(string Name, string By);

/// <param name="What">registrationWithoutFiles, filesWithoutRegistration or provisionedWithoutFolder.</param>
public sealed record WorldLeftover(string What, string Name, string By, string Version, string Display, ImmutableArray<string>? For, int Kib);

/// <param name="Kind">application (default), framework, component or addon.</param>
/// <param name="Bundle">Version of the bundle; null when the package comes alone.</param>
/// <param name="Kib">Size of all its files.</param>
/// <param name="For">Accounts that have it.</param>
/// <param name="Resources">Resource ids of the bundle's resource members.</param>
public sealed record WorldPackage(
    string Name,
    string By,
    string Version,
    string Display,
    string? About,
    int Kib,
    string? Kind,
    string? Architecture,
    string? Bundle,
    bool Provisioned,
    ImmutableArray<string>? For,
    ImmutableArray<string>? Needs,
    ImmutableArray<string>? Resources,
    string? Extends,
    ImmutableArray<WorldApp>? Apps,
    ImmutableArray<string>? Capabilities)
{
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
    string Id,
    string? Display,
    bool Hidden,
    ImmutableArray<string>? Types,
    ImmutableArray<string>? Schemes,
    ImmutableArray<string>? Startup,
    ImmutableArray<string>? Aliases,
    bool Background,
    bool Share,
    string? Service);

[JsonSourceGenerationOptions(PropertyNameCaseInsensitive = true)]
[JsonSerializable(typeof(World))]
internal sealed partial class WorldJson : JsonSerializerContext;
