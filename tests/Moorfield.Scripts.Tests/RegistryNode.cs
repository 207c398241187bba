using Moorfield.Formats.Hives;

namespace Moorfield.Scripts.Tests;

/// <summary>A key of the made-up machine's registry.</summary>
public sealed class RegistryNode(string name)
{
    public string Name => name;

    public SortedDictionary<string, RegistryNode> Keys { get; } = new(StringComparer.OrdinalIgnoreCase);

    public SortedDictionary<string, HiveValue> Values { get; } = new(StringComparer.OrdinalIgnoreCase);

    public static RegistryNode From(HiveKey key, string? name = null)
    {
        var node = new RegistryNode(name ?? key.Name);
        foreach (var value in key.Values())
            node.Values[value.Name] = value;
        foreach (var child in key.Children())
            node.Keys[child.Name] = From(child);
        return node;
    }

    public RegistryNode? Find(string path)
    {
        RegistryNode? node = this;
        foreach (string part in path.Split('\\', StringSplitOptions.RemoveEmptyEntries))
            node = node?.Keys.GetValueOrDefault(part);
        return node;
    }

    public RegistryNode Create(string path)
    {
        var node = this;
        foreach (string part in path.Split('\\', StringSplitOptions.RemoveEmptyEntries))
        {
            if (!node.Keys.TryGetValue(part, out var next))
                node.Keys[part] = next = new RegistryNode(part);
            node = next;
        }
        return node;
    }

    public void Delete(string path)
    {
        int last = path.LastIndexOf('\\');
        Find(path[..Math.Max(last, 0)])?.Keys.Remove(path[(last + 1)..]);
    }

    public RegistryNode Copy(string? newName = null)
    {
        var copy = new RegistryNode(newName ?? name);
        foreach (var (key, value) in Values)
            copy.Values[key] = value;
        foreach (var (key, child) in Keys)
            copy.Keys[key] = child.Copy();
        return copy;
    }

    /// <summary>Everything below in lines, to be compared.</summary>
    public IEnumerable<string> Lines(string path = "")
    {
        yield return path;
        foreach (var value in Values.Values)
            yield return $"{path}: {value.Name} {value.Type} {Convert.ToHexString(value.Data.Span)}";
        foreach (var child in Keys.Values)
        {
            foreach (string line in child.Lines($@"{path}\{child.Name}"))
                yield return line;
        }
    }
}
