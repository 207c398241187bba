using System.IO.Compression;
using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using Moorfield.Core.Model;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>
/// Documents that come from elsewhere, spoilt at every kind of place that they have: each is read, or refused in a sentence. Nothing else.
/// </summary>
public sealed partial class ReceivedDocumentTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);

    public void Dispose() => _folder.Dispose();

    [GeneratedRegex(@"\[\d+\]", RegexOptions.ExplicitCapture, 5000)]
    private static partial Regex Index();

    [GeneratedRegex(@"\.(?<name>\w+)|\[(?<index>\d+)\]", RegexOptions.ExplicitCapture, 5000)]
    private static partial Regex Step();

    [Fact]
    public void A_survey_with_anything_spoilt_is_read_or_refused()
    {
        Directory.CreateDirectory(_folder["surveys"]);
        string survey = Moorfield.StandIn.World.WriteSurveys(_folder["surveys"]).First();
        Spoil(File.ReadAllText(survey), path => SurveyTarget.TryOpen(path)).ShouldBeGreaterThan(200);
    }

    [Fact]
    public void A_saved_inventory_with_anything_spoilt_is_read_or_refused()
    {
        using var target = Target.Open(Demo.CopyTo(_folder), new WriteInterceptor());
        using var packed = new GZipStream(new MemoryStream(SavedInventory.Write(target, target.Read([null], KnownGuards.All))),
            CompressionMode.Decompress);
        using var reader = new StreamReader(packed);
        string saved = reader.ReadToEnd();
        Spoil(saved, path => SavedInventory.TryOpen(path)).ShouldBeGreaterThan(400);
    }

    /// <summary>Spoils one place of every kind, in turn; the number of documents that were tried.</summary>
    private int Spoil(string document, Func<string, Target?> open)
    {
        var places = new Dictionary<string, string>();
        document = Shortened(document, places);
        int tried = 0;
        foreach (var (kind, place) in places)
        {
            foreach (string by in new[] { "null", "gone", "7", "-1", "\"\\u0000 x\"", "[null]", "[]", "{}" })
            {
                var json = JsonNode.Parse(document)!;
                Put(json, place, by);
                string file = _folder.Write("spoilt.json", System.Text.Encoding.UTF8.GetBytes(json.ToJsonString()));
                bool isRead = false;
                try
                {
                    using var target = open(file);
                    foreach (var system in target?.Read([null]) ?? [])
                        _ = system.Packages.Select(p => p.Family.ToString()).ToList();
                    isRead = target is not null;
                }
                catch (MoorfieldException)
                {
                    // A sentence.
                }
                catch (Exception e)
                {
                    Assert.Fail($"{kind} by {by}: {e}");
                }
                if ((by == "null" && place.EndsWith(']')) || by == "[null]")
                    isRead.ShouldBeFalse($"{kind} by {by} was read");
                tried++;
            }
        }
        return tried;
    }

    /// <summary>Takes out the packages that have no kind of place of their own.</summary>
    private static string Shortened(string document, Dictionary<string, string> places)
    {
        var json = JsonNode.Parse(document)!;
        Walk(json, places);
        int kinds = places.Count;
        var packages = (json["packages"] ?? json["systems"]![0]!["packages"])!.AsArray();
        for (int i = packages.Count - 1; i >= 0; i--)
        {
            var package = packages[i];
            packages.RemoveAt(i);
            places.Clear();
            Walk(json, places);
            if (places.Count < kinds)
                packages.Insert(i, package);
        }
        places.Clear();
        Walk(json, places);
        return json.ToJsonString();
    }

    private static void Walk(JsonNode node, Dictionary<string, string> places)
    {
        var children = node is JsonObject o ? o.Select(p => p.Value) : node is JsonArray a ? a : [];
        if (node.Parent is not null)
            places.TryAdd(Index().Replace(node.GetPath(), "[*]"), node.GetPath());
        foreach (var child in children)
        {
            if (child is not null)
                Walk(child, places);
        }
    }

    private static void Put(JsonNode root, string path, string by)
    {
        var node = root;
        foreach (Match step in Step().Matches(path[1..]))
            node = step.Groups["name"].Success ? node![step.Groups["name"].Value] : node![int.Parse(step.Groups["index"].Value)];
        if (node!.Parent is JsonObject holder)
        {
            string name = node.GetPropertyName();
            if (by == "gone")
                holder.Remove(name);
            else
                holder[name] = JsonNode.Parse(by);
        }
        else if (node.Parent is JsonArray list)
        {
            int index = node.GetElementIndex();
            if (by == "gone")
                list.RemoveAt(index);
            else
                list[index] = JsonNode.Parse(by);
        }
    }
}
