using System.Collections.Concurrent;
using System.Globalization;
using Moorfield.Core.Images;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Formats.Wim;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>The same input gives the same bytes, whenever it is worked on and however fast each part of the work is.</summary>
public sealed class SameBytesTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);

    public void Dispose() => _folder.Dispose();

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    private sealed class Clock(int year) : TimeProvider
    {
        public override DateTimeOffset GetUtcNow() => new(year, 1, 2, 3, 4, 5, TimeSpan.Zero);
    }

    private static void Remove(string path, int year)
    {
        using var target = (ImageTarget)Target.Open(path, new WriteInterceptor());
        var operation = new RemovalOperation(target, target.Read([1, 2, 3]), [], systems => systems.Select(s =>
            new RemovalRequest(PackageSelector.Find(["Weather"], [s]).Single(), AudienceParser.Parse(["newcomers"], s))));
        var proposal = operation.Plan();
        var settings = new RunSettings(null, new WriteInterceptor()) { AcceptsCosts = true, Clock = new Clock(year) };
        operation.CarryOut(proposal, settings)!.Verified.ShouldBeTrue();
    }

    [Fact]
    public void A_removal_from_an_image_does_not_depend_on_the_clock()
    {
        string first = Demo.CopyImageTo(_folder), second = _folder["second.wim"];
        File.Copy(first, second);
        var modified = Modified(first);
        Remove(first, 2026);
        Remove(second, 2031);
        File.ReadAllBytes(second).ShouldBe(File.ReadAllBytes(first));
        Modified(first).ShouldBe(modified);

        static DateTime? Modified(string path)
        {
            using var image = ImageFile.Open(path, new WriteInterceptor());
            return image.Editions.Max(e => e.Modified);
        }
    }

    [Fact]
    public void New_image_files_get_the_same_identifier_and_parts_keep_theirs()
    {
        string image = Demo.CopyImageTo(_folder);
        (Guid Guid, byte[] Bytes) Made(string name, Action<string> make)
        {
            string path = _folder[name];
            make(path);
            using var file = File.OpenHandle(path);
            using var wim = WimFile.Open(file);
            return (wim.Header.Guid, File.ReadAllBytes(path));
        }
        void Export(string to, int edition, WimCompression kind) =>
            ImageExport.Write(image, "image", [edition], to, new ExportCompression(kind), false, new WriteInterceptor(), (_, _) => { }, Stop);

        var one = Made("a.wim", to => Export(to, 1, WimCompression.Xpress));
        Made("b.wim", to => Export(to, 1, WimCompression.Xpress)).Bytes.ShouldBe(one.Bytes);
        Made("c.wim", to => Export(to, 2, WimCompression.Xpress)).Guid.ShouldNotBe(one.Guid);
        Made("d.wim", to => Export(to, 1, WimCompression.Lzx)).Guid.ShouldNotBe(one.Guid);
        var parts = Made("e.swm", to => ImageExport.Split(image, "image", to, 1 << 20, new WriteInterceptor(), (_, _) => { }, Stop));
        Made("f.swm", to => ImageExport.Split(image, "image", to, 1 << 20, new WriteInterceptor(), (_, _) => { }, Stop))
            .Bytes.ShouldBe(parts.Bytes);
        using var whole = ImageFile.Open(image, new WriteInterceptor());
        parts.Guid.ShouldBe(whole.Wim.Header.Guid);
        one.Guid.ShouldNotBe(parts.Guid);
        Made("g.wim", to => ImageExport.Join(_folder["e.swm"], to, new WriteInterceptor(), (_, _) => { }, Stop)).Guid.ShouldBe(parts.Guid);
    }

    [Theory]
    [InlineData("0", "1970-01-01T00:00:00")]
    [InlineData("1764547200", "2025-12-01T00:00:00")]
    [InlineData("253402300798", "9999-12-31T23:59:58")]
    [InlineData("253402300800", null)]
    [InlineData("-1", null)]
    [InlineData("1.5", null)]
    [InlineData(" 1", null)]
    [InlineData("today", null)]
    public void The_time_of_the_environment_is_seconds_since_1970(string text, string? expected) =>
        SourceDate.Parse(text)?.ToString("s", CultureInfo.InvariantCulture).ShouldBe(expected);

    [Fact]
    public async Task Workers_write_in_their_order_however_slow_the_first_is()
    {
        var turns = new Turns();
        var written = new ConcurrentQueue<int>();
        using var later = new CountdownEvent(3);
        var workers = Enumerable.Range(0, 4).Select(n => Task.Run(() => turns.Take(n, isMine =>
        {
            if (n == 0)
                later.Wait(TestContext.Current.CancellationToken); // all others are ready to write
            else
                later.Signal();
            isMine().ShouldBeTrue();
            written.Enqueue(n);
            return n;
        }))).ToArray();
        (await Task.WhenAll(workers)).ShouldBe([0, 1, 2, 3]);
        written.ShouldBe([0, 1, 2, 3]);
    }

    [Fact]
    public async Task Nobody_writes_once_one_has_failed_and_nobody_waits_for_ever()
    {
        var turns = new Turns();
        var may = new ConcurrentDictionary<int, bool>();
        var workers = Enumerable.Range(0, 4).Select(n => Task.Run(() => turns.Take<int>(n, isMine =>
        {
            if (n == 1)
                throw new IOException("out of room");
            may[n] = isMine();
            return n;
        }))).ToArray();
        await Should.ThrowAsync<IOException>(Task.WhenAll(workers));
        may.Keys.Order().ShouldBe([0, 2, 3]);
        (may[2], may[3]).ShouldBe((false, false));
    }

    [Fact]
    public async Task A_worker_that_writes_nothing_does_not_let_others_pass_before_its_turn()
    {
        var turns = new Turns();
        var order = new ConcurrentQueue<int>();
        using var ready = new ManualResetEventSlim();
        var idle = Task.Run(() => turns.Take(1, _ => 1));
        var last = Task.Run(() => turns.Take(2, isMine =>
        {
            ready.Set();
            isMine();
            order.Enqueue(2);
            return 2;
        }));
        ready.Wait(TestContext.Current.CancellationToken);
        turns.Take(0, isMine =>
        {
            isMine();
            order.Enqueue(0);
            return 0;
        });
        await Task.WhenAll(idle, last);
        order.ShouldBe([0, 2]);
    }

    [Theory]
    [InlineData(WimCompression.Lzx)]
    [InlineData(WimCompression.Xpress)]
    [InlineData(WimCompression.None)]
    public void The_size_of_a_converted_image_is_foretold(WimCompression compression)
    {
        string image = Demo.CopyImageTo(_folder);
        using var file = ImageFile.Open(image, new WriteInterceptor());
        int[][] choices = [[1, 2, 3], [2]];
        foreach (int[] editions in choices)
        {
            string made = _folder[$"{editions.Length}.wim"];
            ImageExport.Write(image, "image", editions, made, new ExportCompression(compression), false, new WriteInterceptor(), (_, _) => { }, Stop);
            long foretold = ImageSizeEstimate.Of(file, editions, Enumerable.Empty<int>().ToLookup(e => e, _ => WindowsPath.Root), compression);
            (foretold / (double)new FileInfo(made).Length).ShouldBeInRange(0.9, 1.12);
        }
        // Without all of an edition's files, what others have stays.
        long without = ImageSizeEstimate.Of(file, [1, 2], new[] { 1, 2 }.ToLookup(e => e, _ => WindowsPath.Root / "Program Files"), compression);
        without.ShouldBeLessThan(ImageSizeEstimate.Of(file, [1, 2], Enumerable.Empty<int>().ToLookup(e => e, _ => WindowsPath.Root), compression));
    }

    [Fact]
    public void The_size_without_an_edition_is_that_of_what_the_others_need()
    {
        string image = Demo.CopyImageTo(_folder);
        using var file = ImageFile.Open(image, new WriteInterceptor());
        var none = Enumerable.Empty<int>().ToLookup(e => e, _ => WindowsPath.Root);
        // libwim takes contents over as they are stored, when the compression is the same.
        string all = _folder["all.wim"];
        ImageExport.Write(image, "image", [1, 2, 3], all, new ExportCompression(file.Wim.Header.Compression), false, new WriteInterceptor(),
            (_, _) => { }, Stop);
        (ImageSizeEstimate.Of(file, [1, 2, 3], none, null) / (double)new FileInfo(all).Length).ShouldBeInRange(0.97, 1.03);
        ImageSizeEstimate.Of(file, [1], none, null).ShouldBeLessThan(ImageSizeEstimate.Of(file, [1, 2], none, null));
    }
}
