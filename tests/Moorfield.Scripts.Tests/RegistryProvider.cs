using System.Collections.ObjectModel;
using System.Management.Automation;
using System.Management.Automation.Provider;
using Moorfield.Formats.Hives;

namespace Moorfield.Scripts.Tests;

/// <summary>The made-up machine's registry, in the shell's own terms: what scripts write as <c>Registry::HKEY_LOCAL_MACHINE\…</c>.</summary>
[CmdletProvider("Registry", ProviderCapabilities.ShouldProcess)]
public sealed class RegistryProvider : NavigationCmdletProvider, IPropertyCmdletProvider, IDynamicPropertyCmdletProvider
{
    public override char ItemSeparator => '\\';

    public override char AltItemSeparator => '\\';

    private MadeUpMachine Machine => MadeUpMachine.In(SessionState);

    private RegistryNode? Find(string path)
    {
        // The shell keeps a key open that it has looked at, so that a hive that was mounted stays so.
        if (path.StartsWith(@"HKEY_USERS\Moorfield_", StringComparison.OrdinalIgnoreCase))
            Machine.Open.Add(path.Split('\\')[1]);
        return Machine.IsHidden(path) ? null : Machine.Registry.Find(path);
    }

    protected override bool IsValidPath(string path) => path.Length > 0;

    protected override bool ItemExists(string path) => Find(path) is not null;

    protected override bool IsItemContainer(string path) => Find(path) is not null;

    protected override bool HasChildItems(string path) => Find(path)?.Keys.Count > 0;

    protected override void GetItem(string path)
    {
        if (Find(path) is { } node)
            WriteItemObject(Shown(node, path), path, isContainer: true);
    }

    protected override void GetChildItems(string path, bool recurse)
    {
        if (Find(path) is not { } node)
        {
            WriteError(new ErrorRecord(new ItemNotFoundException(path), "PathNotFound", ErrorCategory.ObjectNotFound, path));
            return;
        }
        foreach (var child in node.Keys.Values)
            WriteItemObject(Shown(child, $@"{path}\{child.Name}"), $@"{path}\{child.Name}", isContainer: true);
    }

    protected override void GetChildNames(string path, ReturnContainers returnContainers)
    {
        foreach (var child in Find(path)?.Keys.Values ?? Enumerable.Empty<RegistryNode>())
            WriteItemObject(child.Name, $@"{path}\{child.Name}", isContainer: true);
    }

    protected override void NewItem(string path, string itemTypeName, object newItemValue)
    {
        Machine.Tell($"New-Item {path}");
        if (Machine.Registry.Find(path) is not null && !Force)
        {
            WriteError(new ErrorRecord(new IOException("A key in this path already exists."), "Exists", ErrorCategory.ResourceExists, path));
            return;
        }
        // As the real one: -Force empties a key that is there. [doc]
        if (Machine.Registry.Find(path) is not null)
            Machine.Registry.Delete(path);
        string parent = path[..path.LastIndexOf('\\')];
        if (Machine.Registry.Find(parent) is null && !Force)
        {
            WriteError(new ErrorRecord(new IOException("The parent key does not exist."), "NoParent", ErrorCategory.ObjectNotFound, path));
            return;
        }
        WriteItemObject(Shown(Machine.Registry.Create(path), path), path, isContainer: true);
    }

    protected override void RemoveItem(string path, bool recurse)
    {
        Machine.Tell($"Remove-Item {path}");
        Machine.Registry.Delete(path);
    }

    public void GetProperty(string path, Collection<string>? providerSpecificPickList)
    {
        if (Find(path) is not { } node)
        {
            WriteError(new ErrorRecord(new ItemNotFoundException(path), "PathNotFound", ErrorCategory.ObjectNotFound, path));
            return;
        }
        var result = new PSObject();
        foreach (var value in node.Values.Values)
        {
            string name = value.Name.Length == 0 ? "(default)" : value.Name;
            if (providerSpecificPickList is null or { Count: 0 } || providerSpecificPickList.Contains(name, StringComparer.OrdinalIgnoreCase))
                result.Properties.Add(new PSNoteProperty(name, Data(value)));
        }
        if (result.Properties.Any())
            WritePropertyObject(result, path);
    }

    public void NewProperty(string path, string propertyName, string? propertyTypeName, object? value)
    {
        Machine.Tell($"New-ItemProperty {path} {propertyName} = {value}");
        var node = Machine.Registry.Find(path) ?? throw new ItemNotFoundException(path);
        if (Machine.IsReadOnly(path))
            throw new UnauthorizedAccessException("Requested registry access is not allowed.");
        string name = propertyName == "(default)" ? "" : propertyName;
        if (node.Values.ContainsKey(name) && !Force)
            throw new IOException("The property already exists.");
        node.Values[name] = Value(name, propertyTypeName ?? "String", value);
    }

    public void RemoveProperty(string path, string propertyName)
    {
        Machine.Tell($"Remove-ItemProperty {path} {propertyName}");
        Machine.Registry.Find(path)?.Values.Remove(propertyName == "(default)" ? "" : propertyName);
    }

    private static HiveValue Value(string name, string type, object? value)
    {
        object? plain = value is PSObject wrapped ? wrapped.BaseObject : value;
        return type switch
        {
            "DWord" => HiveValue.FromDWord(name, unchecked((uint)LanguagePrimitives.ConvertTo<int>(plain))),
            "QWord" => HiveValue.FromQWord(name, LanguagePrimitives.ConvertTo<ulong>(plain)),
            "String" => HiveValue.FromString(name, LanguagePrimitives.ConvertTo<string>(plain)),
            "ExpandString" => HiveValue.FromString(name, LanguagePrimitives.ConvertTo<string>(plain), HiveValueType.ExpandString),
            "MultiString" => HiveValue.FromStrings(name, LanguagePrimitives.ConvertTo<string[]>(plain)),
            "Binary" => new HiveValue(name, HiveValueType.Binary, LanguagePrimitives.ConvertTo<byte[]>(plain)),
            _ => throw new PSArgumentException($"There is no registry type {type}."),
        };
    }

    private static object Data(HiveValue value) => value.Type switch
    {
        HiveValueType.DWord => unchecked((int)value.AsDWord()!.Value),
        HiveValueType.QWord => BitConverter.ToInt64(value.Data.Span),
        HiveValueType.MultiString => value.AsStrings()!,
        HiveValueType.String => value.AsString()!,
        HiveValueType.ExpandString => MadeUpMachine.Expand(value.AsString()!),
        _ => value.Data.ToArray(),
    };

    private static PSObject Shown(RegistryNode node, string path)
    {
        var item = new PSObject();
        item.Properties.Add(new PSNoteProperty("Name", path));
        item.Properties.Add(new PSNoteProperty("Property", node.Values.Keys.Select(k => k.Length == 0 ? "(default)" : k).ToArray()));
        return item;
    }

    public void SetProperty(string path, PSObject propertyValue)
    {
        foreach (var property in propertyValue.Properties)
            NewProperty(path, property.Name, property.Value is int ? "DWord" : "String", property.Value);
    }

    public void ClearProperty(string path, Collection<string> propertyToClear) => throw new PSNotSupportedException();

    public object GetPropertyDynamicParameters(string path, Collection<string>? providerSpecificPickList) => null!;

    public object SetPropertyDynamicParameters(string path, PSObject propertyValue) => null!;

    public object ClearPropertyDynamicParameters(string path, Collection<string> propertyToClear) => null!;

    public object NewPropertyDynamicParameters(string path, string propertyName, string? propertyTypeName, object? value) => null!;

    public object RemovePropertyDynamicParameters(string path, string propertyName) => null!;

    public void RenameProperty(string path, string sourceProperty, string destinationProperty) => throw new PSNotSupportedException();

    public object RenamePropertyDynamicParameters(string path, string sourceProperty, string destinationProperty) => null!;

    public void CopyProperty(string sourcePath, string sourceProperty, string destinationPath, string destinationProperty) =>
        throw new PSNotSupportedException();

    public object CopyPropertyDynamicParameters(string sourcePath, string sourceProperty, string destinationPath, string destinationProperty)
        => null!;

    public void MoveProperty(string sourcePath, string sourceProperty, string destinationPath, string destinationProperty) =>
        throw new PSNotSupportedException();

    public object MovePropertyDynamicParameters(string sourcePath, string sourceProperty, string destinationPath, string destinationProperty)
        => null!;
}
