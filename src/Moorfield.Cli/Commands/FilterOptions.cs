namespace Moorfield.Cli.Commands;

/// <summary>The options by which packages are chosen for what is known of them, in lists and in changes alike.</summary>
internal sealed class FilterOptions
{
    private readonly Option<string[]> _find = new("--find") { Description = "Only packages whose names, description or publisher hold this text "
        + "(repeatable: or this one)", HelpName = "TEXT" };
    private readonly Option<string[]> _role = Among<PackageRole>("--role", "Only packages of this role");
    private readonly Option<string[]> _origin = Among<PackageOrigin>("--origin", "Only packages of this origin");
    private readonly Option<string[]> _standing = Among<PackageStanding>("--standing", "Only packages of this standing");
    private readonly Option<bool> _starts = new("--starts-with-windows") { Description = "Only packages that start with Windows" };
    private readonly Option<bool> _background = new("--runs-in-background") { Description = "Only packages that run in the background" };
    private readonly Option<string[]>? _keep;

    /// <param name="forChange">The packages are to be changed: those named by --keep are not.</param>
    internal FilterOptions(Command command, bool forChange = false)
    {
        foreach (var option in new Option[] { _find, _role, _origin, _standing, _starts, _background })
            command.Add(option);
        if (!forChange)
            return;
        _keep = new Option<string[]>("--keep") { Description = "With these filters: a package that stays all the same (repeatable)",
            HelpName = "PACKAGE" };
        command.Add(_keep);
    }

    internal string[] Find(Invocation call) => call.GetValue(_find) ?? [];

    internal bool HasRoles(Invocation call) => call.GetValue(_role) is { Length: > 0 };

    internal string[] Keep(Invocation call) => (_keep is null ? null : call.GetValue(_keep)) ?? [];

    /// <exception cref="MoorfieldException">A word is none of those that an option takes.</exception>
    internal PackageFilter Read(Invocation call) => new(
        [.. Find(call)], Values<PackageRole>(call, _role), Values<PackageOrigin>(call, _origin), Values<PackageStanding>(call, _standing),
        call.GetValue(_starts), call.GetValue(_background));

    private static ImmutableArray<T> Values<T>(Invocation call, Option<string[]> option) where T : struct, Enum =>
        [.. (call.GetValue(option) ?? []).SelectMany(DisplayText.Split).Select(word => Value<T>(word, option.Name)).Distinct()];

    private static T Value<T>(string word, string option) where T : struct, Enum
    {
        var values = Enum.GetValues<T>();
        int at = Array.FindIndex(values, v => DisplayText.Of(v).Equals(word, StringComparison.OrdinalIgnoreCase));
        return at >= 0 ? values[at] : throw new MoorfieldException(
            ErrorKind.InvalidUsage, $"{option} takes {TextFormat.List(values.Select(DisplayText.Of))}, several with commas; '{word}' is none of "
            + "these.");
    }

    private static Option<string[]> Among<T>(string name, string description) where T : struct, Enum
    {
        string[] values = [.. Enum.GetValues<T>().Select(DisplayText.Of)];
        var option = new Option<string[]>(name)
        {
            Description = $"{description}: {string.Join(", ", values)} (several with commas)",
            HelpName = name[2..].ToUpperInvariant(),
            DefaultValueFactory = _ => [],
        };
        option.CompletionSources.Add(values);
        return option;
    }
}
