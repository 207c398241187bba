using System.Text.Json;
using System.Text.Json.Serialization;
using Moorfield.Core.Storage;

namespace Moorfield.Core.Operations;

/// <summary>A file by its content.</summary>
/// <param name="Name">With slashes, from the folder of the result on; or an address.</param>
/// <param name="Sha256">64 small hexadecimal digits.</param>
public sealed record NamedDigest(string Name, string Sha256);

/// <summary>The packages and programs that went from an edition of a result.</summary>
/// <param name="Edition">Its number in the result.</param>
/// <param name="Name">Of the edition.</param>
/// <param name="Packages">Full names, sorted.</param>
/// <param name="Programs">Names of desktop programs that no longer install themselves, sorted.</param>
public sealed record EditionRemovals(int Edition, string Name, ImmutableArray<string> Packages, ImmutableArray<string> Programs);

/// <summary>
/// How a medium was made, of what, and by which program: an in-toto statement in the form of SLSA. It has no times and no names of this machine, so
/// that the same build gives the same statement. Source: in-toto Attestation Framework 1.0, SLSA Provenance 1.0 [doc].
/// </summary>
/// <param name="Result">The medium.</param>
/// <param name="Materials">Everything that it was made of: the source first.</param>
/// <param name="Recipe">Its name; null when it was built by options.</param>
/// <param name="Arguments">The options that it was built by; empty when there is a recipe.</param>
/// <param name="Version">Of the program.</param>
/// <param name="Program">SHA-256 of the program.</param>
public sealed record Provenance(
    NamedDigest Result, ImmutableArray<NamedDigest> Materials, string? Recipe, ImmutableArray<string> Arguments, string Version, string Program,
    ImmutableArray<EditionRemovals> Removed)
{
    /// <summary>Follows the name of the result in that of its provenance.</summary>
    public const string Ending = ".provenance.json";

    private const string StatementType = "https://in-toto.io/Statement/v1", PredicateType = "https://slsa.dev/provenance/v1";
    private const string BuildType = "https://moorfield.example.org/media-build/1", Builder = "https://moorfield.example.org/program";
    private const string Digest = "sha256", RemovedName = "removed", ProgramName = "moorfield";
    private const int MaxBytes = 16 << 20, Digits = 64;

    private static readonly StatementJsonContext Json = StatementJsonContext.Default;

    /// <summary>The statement, in UTF-8.</summary>
    public byte[] ToJson() =>
    [
        .. JsonSerializer.SerializeToUtf8Bytes(new StatementJson(StatementType, [Resource(Result)], PredicateType, new PredicateJson(
            new BuildDefinitionJson(BuildType, new ParametersJson(Arguments) { Recipe = Recipe }, [.. Materials.Select(Resource)]),
            new RunDetailsJson(
                new BuilderJson(
                    Builder, new Dictionary<string, string> { [ProgramName] = Version }, [Resource(new NamedDigest(ProgramName, Program))]),
                [new ResourceJson(RemovedName) { Annotations = new RemovedJson(Removed) }]))), Json.StatementJson),
        .. "\n"u8,
    ];

    /// <summary>Writes it to a file.</summary>
    /// <param name="replaces">True if one that is there may be replaced.</param>
    /// <exception cref="MoorfieldException">It cannot be written; the medium is there without it.</exception>
    public void Write(string path, bool replaces)
    {
        try
        {
            string full = Path.GetFullPath(path);
            RegularFile.CheckNew(full, replaces);
            using var folder = Folder.Open(Path.GetDirectoryName(full)!, new WriteInterceptor());
            AtomicFile.Write(folder, Path.GetFileName(full), ToJson(), part: $".{Path.GetFileName(full)}{AtomicFile.PartName}");
        }
        catch (MoorfieldException e)
        {
            throw new MoorfieldException(e.Kind, $"{e.Message} Only the provenance is missing: the medium is built.", e);
        }
    }

    /// <exception cref="MoorfieldException">It cannot be read, or is no statement about a medium that was built here.</exception>
    public static Provenance Read(string path)
    {
        if (RegularFile.KindOf(path) is null)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"There is no provenance {path}. 'media build --provenance' writes it.");
        StatementJson? read;
        try
        {
            using var file = RegularFile.OpenNamed(path);
            if (file.Length > MaxBytes)
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"{path} is longer than a provenance can be.");
            read = JsonSerializer.Deserialize(file, Json.StatementJson);
        }
        catch (JsonException e)
        {
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"{path} is not a provenance: line {e.LineNumber + 1} is not as it should be ({e.Path}).", e);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new MoorfieldException(ErrorKind.Failed, $"{path} cannot be read: {e.Message}", e);
        }
        return From(read) ?? throw new MoorfieldException(ErrorKind.InvalidUsage, $"{path} is not the provenance of a medium that moorfield built.");
    }

    private static Provenance? From(StatementJson? read) =>
        read is { Type: StatementType, PredicateType: PredicateType, Subject: [var subject] }
            && read.Predicate.BuildDefinition is { BuildType: BuildType } build
            && read.Predicate.RunDetails is { Builder: { BuilderDependencies: [var program] } builder, Byproducts: [{ Annotations: { } removed }] }
            && builder.Version.TryGetValue(ProgramName, out string? version)
            && Named(subject) is { } result && Named(program) is { } by
            && version is not null && build.ExternalParameters.Arguments.All(a => a is not null)
            && removed.Editions.All(e => e is not null && e.Packages.Concat(e.Programs).All(p => p is not null))
            && build.ResolvedDependencies.Select(Named).ToImmutableArray() is var materials && materials.All(m => m is not null)
            ? new Provenance(result, materials!, build.ExternalParameters.Recipe, build.ExternalParameters.Arguments, version, by.Sha256,
                removed.Editions) : null;

    private static ResourceJson Resource(NamedDigest file) => new(file.Name) { Digest = new Dictionary<string, string> { [Digest] = file.Sha256 } };

    private static NamedDigest? Named(ResourceJson? resource) =>
        resource?.Digest?.GetValueOrDefault(Digest) is { Length: Digits } digest && digest.All(char.IsAsciiHexDigitLower)
            ? new NamedDigest(resource.Name, digest) : null;
}

internal sealed record StatementJson(
    [property: JsonPropertyName("_type")] string Type, ImmutableArray<ResourceJson> Subject, string PredicateType, PredicateJson Predicate);

internal sealed record ResourceJson(string Name)
{
    public Dictionary<string, string>? Digest { get; init; }

    public RemovedJson? Annotations { get; init; }
}

internal sealed record RemovedJson(ImmutableArray<EditionRemovals> Editions);

internal sealed record PredicateJson(BuildDefinitionJson BuildDefinition, RunDetailsJson RunDetails);

internal sealed record BuildDefinitionJson(string BuildType, ParametersJson ExternalParameters, ImmutableArray<ResourceJson> ResolvedDependencies);

internal sealed record ParametersJson(ImmutableArray<string> Arguments)
{
    public string? Recipe { get; init; }
}

internal sealed record RunDetailsJson(BuilderJson Builder, ImmutableArray<ResourceJson> Byproducts);

internal sealed record BuilderJson(string Id, Dictionary<string, string> Version, ImmutableArray<ResourceJson> BuilderDependencies);

[JsonSourceGenerationOptions(
    PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, WriteIndented = true, DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull,
    RespectNullableAnnotations = true, RespectRequiredConstructorParameters = true)]
[JsonSerializable(typeof(StatementJson))]
internal sealed partial class StatementJsonContext : JsonSerializerContext;
