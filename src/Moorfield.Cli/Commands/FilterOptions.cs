namespace Moorfield.Cli.Commands;

/// <summary>The options that choose packages by what is known about them, in lists and in changes.</summary>
internal sealed class FilterOptions
{
    private readonly Option<string[]> _find = new("--find") { Description = "Text in names, description or publisher (repeatable: any of them)",
        HelpName = "TEXT" };
    private readonly Option<string[]> _publisher = new("--publisher") { Description = "The publisher's display name; * allowed (repeatable)",
        HelpName = "NAME" };
    private readonly Option<string[]> _origin = Among<PackageOrigin>("--origin");
    private readonly Option<string[]> _role = Among<PackageRole>("--role");
    private readonly Option<string[]> _standing = Among<PackageStanding>("--standing");
    private readonly Option<string?> _larger = new("--larger-than") { Description = "Size of the package's files, such as 50MB", HelpName = "SIZE" };
    private readonly Option<string?> _smaller = new("--smaller-than") { Description = "Size of the package's files, such as 500KB",
        HelpName = "SIZE" };
    private readonly Option<bool?> _starts = new("--starts-with-windows") { Description = "Starts with Windows (or, with 'false', does not)" };
    private readonly Option<bool?> _background = new("--runs-in-background")
    {
        Description = "Runs in the background (or, with 'false', does not)",
    };
    private readonly Option<string[]>? _keep;

    /// <param name="forChange">The packages are to be changed: those named by --keep are not.</param>
    internal FilterOptions(Command command, bool forChange = false)
    {
        foreach (var option in new Option[] { _find, _publisher, _origin, _role, _standing, _larger, _smaller, _starts, _background })
            command.Add(option);
        if (!forChange)
            return;
        _keep = new Option<string[]>("--keep") { Description = "A package that stays, whatever the others choose (repeatable)",
            HelpName = "PACKAGE" };
        command.Add(_keep);
    }

    internal string[] Find(Invocation call) => call.GetValue(_find) ?? [];

    internal string[] Keep(Invocation call) => (_keep is null ? null : call.GetValue(_keep)) ?? [];

    /// <param name="names">PACKAGE arguments.</param>
    /// <exception cref="MoorfieldException">An option has a value that it does not take.</exception>
    internal PackageConditions Read(Invocation call, string[]? names = null) => new()
    {
        Names = [.. names ?? []],
        Find = [.. Find(call)],
        Publishers = [.. call.GetValue(_publisher) ?? []],
        Origins = Values<PackageOrigin>(call, _origin),
        Roles = Values<PackageRole>(call, _role),
        Standings = Values<PackageStanding>(call, _standing),
        LargerThan = Size(call, _larger),
        SmallerThan = Size(call, _smaller),
        StartsWithWindows = call.GetValue(_starts),
        RunsInBackground = call.GetValue(_background),
    };

    private static long? Size(Invocation call, Option<string?> option) => call.GetValue(option) is not { } text ? null
        : TextFormat.ParseSize(text) ?? throw new MoorfieldException(ErrorKind.InvalidUsage,
            $"{option.Name} takes a size such as 500KB, 1.5MB or 2GB, not '{text}'.");

    private static ImmutableArray<T> Values<T>(Invocation call, Option<string[]> option) where T : struct, Enum =>
        [.. (call.GetValue(option) ?? []).SelectMany(DisplayText.Split).Select(word => Value<T>(word, option.Name)).Distinct()];

    private static T Value<T>(string word, string option) where T : struct, Enum
    {
        var values = Enum.GetValues<T>();
        int at = Array.FindIndex(values, v => DisplayText.Of(v).Equals(word, StringComparison.OrdinalIgnoreCase));
        return at >= 0 ? values[at] : throw new MoorfieldException(
            ErrorKind.InvalidUsage, $"{option} takes {TextFormat.List(values.Select(DisplayText.Of))}, several with commas, not '{word}'.");
    }

    private static Option<string[]> Among<T>(string name) where T : struct, Enum
    {
        string[] values = [.. Enum.GetValues<T>().Select(DisplayText.Of)];
        var option = new Option<string[]>(name)
        {
            Description = $"{string.Join(", ", values)} (several with commas)",
            HelpName = name[2..].ToUpperInvariant(),
            DefaultValueFactory = _ => [],
        };
        option.CompletionSources.Add(values);
        return option;
    }
}
