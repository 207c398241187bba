using System.Collections.Immutable;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Media held against what their provenance says.</summary>
public sealed class MediaVerificationTests : IDisposable
{
    private const string Weather = "Northlight.Weather_";
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly string _iso;
    private readonly SystemSnapshot _edition;

    public MediaVerificationTests()
    {
        _iso = MediumSource.Make(_folder, MediumSource.Tree(_folder, Demo.CopyImageTo(_folder)), plain: true);
        using var target = Open();
        _edition = target.Read([2])[0];
    }

    public void Dispose() => _folder.Dispose();

    private Target Open() => Target.Open(_iso, new WriteInterceptor());

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    private static string Hash(string path) => MediaVerification.HashOf(path, (_, _) => { }, Stop);

    private ImmutableArray<VerifiedPart> Verify(EditionRemovals[] removed, params (string Name, string Sha256)[] materials)
    {
        var made = new Provenance(new NamedDigest("medium.iso", Hash(_iso)), [.. materials.Select(m => new NamedDigest(m.Name, m.Sha256))], null, [],
            "0.1.0", new string('a', 64), [.. removed]);
        made.Write(_folder["p.json"], replaces: true);
        return new MediaVerification(_iso, _folder["p.json"]).Verify(Open, (_, _) => { }, Stop);
    }

    [Fact]
    public void The_digest_is_that_of_the_file_and_its_progress_ends_with_one()
    {
        string file = _folder.Write("three", new byte[3 << 20]);
        double last = 0;
        MediaVerification.HashOf(file, (name, done) =>
        {
            name.ShouldBe("three");
            done.ShouldBeGreaterThan(last);
            last = done;
        }, Stop).ShouldBe(Tool.Read("sha256sum", file)[..64]);
        last.ShouldBe(1);
        Hash(_folder.Write("none", [])).ShouldBe("e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855");
        using var stopped = new CancellationTokenSource();
        stopped.Cancel();
        Should.Throw<MoorfieldException>(() => MediaVerification.HashOf(file, (_, _) => { }, stopped.Token)).Kind.ShouldBe(ErrorKind.Stopped);
    }

    [Fact]
    public void Materials_are_compared_where_they_lie_next_to_the_statement()
    {
        Directory.CreateDirectory(_folder["files"]);
        Directory.CreateDirectory(_folder["folder"]);
        string good = Hash(_folder.Write("vendor.iso", "vendor"u8)), below = Hash(_folder.Write("files/a.xml", "answers"u8));
        _folder.Write("changed.yaml", "other"u8);
        using var elsewhere = new TemporaryFolder(inMemory: true);
        File.CreateSymbolicLink(_folder["out.yaml"], elsewhere.Write("vendor.iso", "vendor"u8));
        Directory.CreateSymbolicLink(_folder["out"], elsewhere.Path);
        File.CreateSymbolicLink(_folder["in.iso"], "vendor.iso");
        var parts = Verify([], ("vendor.iso", good), ("files/a.xml", below), ("changed.yaml", good), ("gone.yaml", good), ("folder", good),
            ("../" + Path.GetFileName(_folder.Path) + "/vendor.iso", good), (_folder["vendor.iso"], good), ("files/./a.xml", below),
            ("files//a.xml", below), ("https://a.example/b.yaml", good), ("out.yaml", good), ("out/vendor.iso", good), ("in.iso", good));
        parts.Select(p => p.State).ShouldBe(
        [
            VerifiedState.Same, VerifiedState.Same, VerifiedState.Same, VerifiedState.Differs, VerifiedState.NotHere, VerifiedState.NotHere,
            VerifiedState.NotHere, VerifiedState.NotHere, VerifiedState.NotHere, VerifiedState.NotHere, VerifiedState.NotHere,
            VerifiedState.NotHere, VerifiedState.NotHere, VerifiedState.Same,
        ]);
        parts.Select(p => p.Role).Distinct().ShouldBe(["result", "source", "part"]);
        (parts[0].Name, parts[0].Recorded, parts[0].Found).ShouldBe(("medium.iso", Hash(_iso), Hash(_iso)));
        parts[3].Found.ShouldBe(Hash(_folder["changed.yaml"]));
        parts[4].Found.ShouldBeNull();
    }

    [Fact]
    public void What_went_from_an_edition_must_not_be_there()
    {
        string there = _edition.Packages.Single(p => p.FullName.ToString().StartsWith(Weather, StringComparison.Ordinal) && p.Newcomers)
            .FullName.ToString();
        string program = DesktopProgramGroup.Of(_edition).First(p => p.Newcomers).Name;
        VerifiedPart One(EditionRemovals removed) => Verify([removed])[1];

        One(new EditionRemovals(2, _edition.Name, ["Never.There_1.0.0.0_x64__0123456789abc"], ["Never There"]))
            .ShouldBe(new VerifiedPart("removed", $"edition 2 ({_edition.Name})", "1 package, 1 desktop program", "none of them is there", VerifiedState.Same));
        var back = One(new EditionRemovals(2, _edition.Name, ["Never.There_1.0.0.0_x64__0123456789abc", there.ToUpperInvariant()], []));
        (back.State, back.Found).ShouldBe((VerifiedState.Differs, $"there: {there.ToUpperInvariant()}"));
        One(new EditionRemovals(2, _edition.Name, [], [program])).Found.ShouldBe($"there: {program}");
        One(new EditionRemovals(2, "Another name", [], [])).Found.ShouldBe("no such edition");
        One(new EditionRemovals(99, _edition.Name, [], [])).State.ShouldBe(VerifiedState.Differs);
    }

    [Fact]
    public void What_is_no_medium_is_refused()
    {
        Verify([]).ShouldHaveSingleItem().State.ShouldBe(VerifiedState.Same);
        string volume = Demo.CopyTo(_folder);
        Should.Throw<MoorfieldException>(() => new MediaVerification(_iso, _folder["p.json"])
            .Verify(() => Target.Open(volume, new WriteInterceptor()), (_, _) => { }, Stop)).Message.ShouldContain("A provenance is about an ISO");
    }
}
