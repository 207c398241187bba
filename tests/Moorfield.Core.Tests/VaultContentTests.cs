using System.Collections.Immutable;
using System.Reflection;
using System.Text.Json.Nodes;
using System.Text.Json.Serialization;
using Moorfield.Core.Model;
using Moorfield.Core.Vaults;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>That nothing which a restore point needs is forgotten, by whoever sweeps a vault or looks at it.</summary>
public sealed class VaultContentTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);

    // Every place in the documents that names a content of the vault. One that is new belongs here and into VaultMaintenance.Contents, or below.
    private static readonly string[] Digests =
    [
        "StoredDisk.Journal", "StoredDropped.Kept", "StoredEntry.Blob", "StoredFile.After", "StoredFile.Before", "StoredSeal.Contents",
        "StoredStateEntry.Content",
        "StoredStream.Blob",
    ];

    private static readonly string[] Others =
    [
        "StoredCell.Column", "StoredCell.Type", "StoredCell.Value", "StoredChange.Family", "StoredDevice.Boot", "StoredDevice.Hardware",
        "StoredDevice.Table", "StoredDropped.Sha1", "StoredEditionDropped.Name", "StoredEditionRenamed.DescriptionAfter",
        "StoredEditionRenamed.DescriptionBefore", "StoredEditionRenamed.NameAfter", "StoredEditionRenamed.NameBefore", "StoredEditionReturned.Name",
        "StoredEntry.Kind", "StoredEntry.LinkTarget", "StoredEntry.Path", "StoredEntryAdded.File", "StoredEntryAdded.Gap", "StoredEntryAdded.Text",
        "StoredEntryRemoved.File", "StoredEntryRemoved.Gap", "StoredEntryRemoved.Text", "StoredFile.Path", "StoredIntent.Kind", "StoredIntent.Sids",
        "StoredIntent.Subject", "StoredKey.Name", "StoredKeyAdded.Hive", "StoredKeyAdded.Key", "StoredKeyRemoved.Hive", "StoredKeyRemoved.Key",
        "StoredLogsReplayed.Hive", "StoredLogsReturned.Hive", "StoredNtfs.ShortName", "StoredPackage.DisplayName", "StoredPackage.Family",
        "StoredPlace.FileSystem", "StoredPoint.Kind", "StoredPoint.Note", "StoredPoint.Schema", "StoredPoint.Title", "StoredRow.Table",
        "StoredRowsAdded.Database", "StoredRowsRemoved.Database", "StoredRowsRemoved.FullName", "StoredRowsRemoved.Sid", "StoredState.Kind",
        "StoredStateEntry.Kind", "StoredStateEntry.Path",
        "StoredStateTree.Family", "StoredStateTree.Path", "StoredStream.Name", "StoredSystem.Name", "StoredTarget.Build", "StoredTarget.Computer",
        "StoredTarget.MachineId", "StoredTarget.Path", "StoredTarget.Product", "StoredTreeAdded.Path", "StoredTreeRemoved.Path",
        "StoredValue.Name", "StoredValueChanged.Hive", "StoredValueChanged.Key", "StoredValueChanged.Name", "StoredWrap.By", "StoredWrap.Id",
    ];

    [Fact]
    public void Every_text_in_the_documents_is_known_to_name_a_content_or_not_to()
    {
        var texts = new SortedSet<string>(StringComparer.Ordinal);
        var seen = new HashSet<Type>();
        Collect(typeof(StoredPoint));
        texts.ShouldBe(Digests.Concat(Others).Order(StringComparer.Ordinal));

        void Collect(Type type)
        {
            type = Nullable.GetUnderlyingType(type) ?? type;
            if (type.IsGenericType)
            {
                foreach (var argument in type.GetGenericArguments())
                    Collect(argument);
                return;
            }
            if (!type.Name.StartsWith("Stored", StringComparison.Ordinal) || type.IsEnum || !seen.Add(type))
                return;
            foreach (var derived in type.GetCustomAttributes<JsonDerivedTypeAttribute>())
                Collect(derived.DerivedType);
            foreach (var property in type.GetProperties(BindingFlags.Public | BindingFlags.Instance | BindingFlags.DeclaredOnly))
            {
                if (property.PropertyType == typeof(string) || property.PropertyType == typeof(ImmutableArray<string>))
                {
                    if (!(property.Name == "Family" && type.BaseType == typeof(StoredChange)))
                        texts.Add($"{type.Name}.{property.Name}");
                }
                else
                {
                    Collect(property.PropertyType);
                }
            }
        }
    }

    private static void Compare(string vaultPath, HashSet<string> kinds)
    {
        using var vault = Vault.OpenExisting(vaultPath)!;
        foreach (int number in vault.Numbers())
        {
            var point = vault.Read(number);
            var counted = VaultMaintenance.Contents(point).Select(c => c.Hash).ToHashSet();
            var named = vault.NamedContents(number);
            if (point.IsSealed)
            {
                // By other names, one for each.
                named.Count.ShouldBe(counted.Count, $"restore point {number}");
                named.Except(vault.Files().Select(f => f.Hash)).ShouldBeEmpty();
                named.Intersect(counted).ShouldBe(point.Disk is { } disk ? [disk.Journal] : []);
            }
            else
            {
                counted.ShouldBe(named, ignoreOrder: true, $"restore point {number}");
            }
            var document = JsonNode.Parse(File.ReadAllText(Path.Combine(vaultPath, $"points/{number:D6}.json")))!;
            Note(document, "");
        }

        void Note(JsonNode? node, string name)
        {
            switch (node)
            {
                case JsonObject properties:
                    foreach (var (key, value) in properties)
                        Note(value, key);
                    break;
                case JsonArray items:
                    foreach (var item in items)
                        Note(item, name);
                    break;
                case JsonValue value when value.TryGetValue(out string? text) && Vault.IsHash(text):
                    kinds.Add(name);
                    break;
            }
        }
    }

    [Fact]
    public void Every_content_that_a_document_names_is_counted()
    {
        var kinds = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        var volume = new Bench(_folder, few: true);
        volume.Create(withFiles: true);
        volume.Remove("Weather", "everyone");
        volume.Undo(2);
        Compare(_folder["vault"], kinds);
        var disk = new Bench(Demo.CopyDiskTo(_folder), _folder["disk-vault"]);
        disk.Create(withFiles: true);
        disk.Remove("Weather", "everyone");
        Compare(_folder["disk-vault"], kinds);
        string path = Demo.CopyEncryptedDiskTo(_folder, "encrypted.ntfs");
        var encrypted = new Bench(path, _folder["sealed-vault"], ConformanceKind.EncryptedDisk.Options);
        encrypted.Create(withFiles: true);
        encrypted.Remove("Weather", "everyone");
        encrypted.Undo(2);
        Compare(_folder["sealed-vault"], kinds);
        var image = new Bench(Demo.CopyImageTo(_folder), _folder["image-vault"]);
        image.Remove("Weather", "newcomers", keepFiles: true);
        Compare(_folder["image-vault"], kinds);
        kinds.Select(k => k.ToLowerInvariant()).Order().ShouldBe(Digests.Select(d => d.Split('.')[1].ToLowerInvariant()).Distinct().Order());
    }

    [Fact]
    public void Deleting_other_points_leaves_a_recorded_state_and_kept_files_of_an_image_whole()
    {
        var volume = new Bench(_folder, few: true);
        volume.Create(withFiles: true);
        volume.Remove("Weather", "everyone");
        var image = new Bench(Demo.CopyImageTo(_folder), _folder["vault"]);
        image.Remove("Weather", "newcomers", keepFiles: true);
        using (var vault = Vault.OpenExisting(_folder["vault"])!)
        {
            var deletion = VaultMaintenance.Plan(PointHistory.Read(vault, _ => { }), new HashSet<int> { 2 }, byName: true, _ => false);
            VaultMaintenance.Delete(vault, deletion, TimeProvider.System, _ => false);
            vault.Numbers().ShouldBe([1, 3]);
            var known = new Dictionary<string, bool>();
            VaultMaintenance.Verify(vault, 1, known).ShouldBeEmpty();
            VaultMaintenance.Verify(vault, 3, known).ShouldBeEmpty();
            known.Count.ShouldBeGreaterThan(20);
            VaultMaintenance.Inspect(vault).Contents.ShouldBeEmpty();
        }
        volume.Restore(1).Failures.ShouldBeEmpty();
    }

    /// <summary>Every place of a document, emptied or taken away, one at a time; and each list with nothing as one of its items.</summary>
    private static IEnumerable<(string Where, string Text)> Spoilt(string document)
    {
        var places = new List<Func<JsonNode, (JsonNode Parent, string? Key, int Index)>>();
        var names = new List<string>();
        Collect(JsonNode.Parse(document)!, root => root, "", 0);
        for (int i = 0; i < places.Count; i++)
        {
            foreach (bool removes in new[] { false, true })
            {
                var root = JsonNode.Parse(document)!;
                var (parent, key, index) = places[i](root);
                if (parent is JsonObject fields)
                {
                    if (removes)
                        fields.Remove(key!);
                    else
                        fields[key!] = null;
                }
                else if (removes)
                {
                    ((JsonArray)parent).Insert(index, null);
                }
                else
                {
                    ((JsonArray)parent)[index] = null;
                }
                yield return ($"{names[i]}{(removes ? " (removed)" : "")}", root.ToJsonString());
            }
        }

        void Collect(JsonNode node, Func<JsonNode, JsonNode> way, string path, int depth)
        {
            switch (node)
            {
                case JsonObject fields:
                    foreach (var (key, value) in fields)
                    {
                        string name = key;
                        places.Add(root => (way(root), name, 0));
                        names.Add($"{path}/{name}");
                        if (value is not null)
                            Collect(value, root => way(root)[name]!, $"{path}/{name}", depth + 1);
                    }
                    break;
                case JsonArray items:
                    // One of each kind is enough: those behind it are like it.
                    foreach (var (item, at) in items.Select((item, at) => (item, at)).Where(x => x.item is not null)
                        .DistinctBy(x => x.item is JsonObject o ? o["kind"]?.ToString() ?? "" : ""))
                    {
                        int index = at;
                        places.Add(root => (way(root), null, index));
                        names.Add($"{path}[{index}]");
                        Collect(item!, root => way(root)[index]!, $"{path}[{index}]", depth + 1);
                    }
                    break;
            }
        }
    }

    [Theory]
    [InlineData("volume")]
    [InlineData("disk")]
    [InlineData("image")]
    [InlineData("state")]
    public void A_document_that_lacks_something_is_read_or_refused_in_a_sentence(string kind)
    {
        var bench = kind switch
        {
            "disk" => new Bench(Demo.CopyDiskTo(_folder), _folder["vault"]),
            "image" => new Bench(Demo.CopyImageTo(_folder), _folder["vault"]),
            _ => new Bench(_folder, few: true),
        };
        if (kind == "state")
            bench.Create(withFiles: false);
        else
            bench.Remove("Weather", kind == "image" ? "newcomers" : "everyone", keepFiles: kind == "image");
        string path = _folder["vault/points/000001.json"], document = File.ReadAllText(path);
        File.Delete(_folder["vault/points/000001.head"]);
        int refused = 0;
        foreach (var (where, text) in Spoilt(document))
        {
            File.WriteAllText(path, text);
            using var vault = Vault.OpenExisting(_folder["vault"])!;
            var error = Record.Exception(() =>
            {
                var point = vault.Read(1);
                _ = VaultMaintenance.Contents(point).Count();
                _ = point.Changes.Select(c => c.Describe() + c.Invert()).Count();
            });
            (error is null or MoorfieldException).ShouldBeTrue($"{where}: {error}");
            refused += error is null ? 0 : 1;
        }
        refused.ShouldBeGreaterThan(20);
    }

    public void Dispose() => _folder.Dispose();
}
