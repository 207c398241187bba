using System.Reflection;
using System.Runtime.CompilerServices;
using System.Xml.Linq;

namespace Moorfield.Core.Tests;

/// <summary>Everything public says what it is, but for what an interface or a base class has said already.</summary>
public sealed class DocumentationTests
{
    private const BindingFlags Own = BindingFlags.Public | BindingFlags.Instance | BindingFlags.Static | BindingFlags.DeclaredOnly;

    [Theory]
    [InlineData("Moorfield.Core", 800)]
    [InlineData("Moorfield.Formats", 300)]
    public void Whatever_is_public_has_a_summary(string assembly, int least)
    {
        var documented = XDocument.Load(Path.Combine(AppContext.BaseDirectory, $"{assembly}.xml")).Descendants("member")
            .Where(m => m.Element("summary") is not null || m.Element("inheritdoc") is not null || m.Element("exception") is not null
                || m.Element("param") is not null || m.Element("returns") is not null)
            .Select(m => m.Attribute("name")!.Value[2..].Split('(')[0]).ToHashSet(StringComparer.Ordinal);
        documented.Count.ShouldBeGreaterThan(least);
        Assembly.Load(assembly).GetExportedTypes().SelectMany(Names).Where(n => !documented.Contains(n)).ShouldBeEmpty();
    }

    private static IEnumerable<string> Names(Type type)
    {
        string name = type.FullName!.Replace('+', '.');
        yield return name;
        if (typeof(Delegate).IsAssignableFrom(type))
            yield break;
        var promised = type.IsInterface ? [] : type.GetInterfaces().SelectMany(i => type.GetInterfaceMap(i).TargetMethods).ToHashSet();
        // What a record declares by its parameters is described there.
        var given = type.GetConstructors(Own | BindingFlags.NonPublic).SelectMany(c => c.GetParameters()).Select(p => p.Name).ToHashSet();
        foreach (var method in type.GetMethods(Own).Where(m => !m.IsSpecialName && !IsKnown(m)))
            yield return $"{name}.{method.Name}{(method.IsGenericMethod ? $"``{method.GetGenericArguments().Length}" : "")}";
        foreach (var property in type.GetProperties(Own).Where(p => !given.Contains(p.Name) && !IsKnown(p.GetMethod ?? p.SetMethod!)))
            yield return $"{name}.{property.Name}";
        foreach (var field in type.GetFields(Own).Where(f => !f.IsSpecialName))
            yield return $"{name}.{field.Name}";

        bool IsKnown(MethodInfo method) => promised.Contains(method) || method.GetBaseDefinition() != method
            || method.GetCustomAttribute<CompilerGeneratedAttribute>() is not null && !method.IsSpecialName;
    }
}
