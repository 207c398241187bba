using System.Buffers.Binary;
using System.Diagnostics;
using System.Net.Sockets;
using System.Text;
using Moorfield.Formats.Disks;
using Moorfield.Tests;

namespace Moorfield.Formats.Tests;

/// <summary>Virtual disks that would lead to other files, servers that do not answer, and what a server is asked.</summary>
[Collection("disk servers")] // some put another program into the place of the server for this whole process
public sealed class HostileDiskTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);

    private static FileSource Open(string path)
    {
        var file = File.OpenHandle(path, FileMode.Open, FileAccess.Read, FileShare.ReadWrite);
        return new FileSource(file, file.Dispose, RandomAccess.GetLength(file), (_, _) => throw new InvalidOperationException(), () => { });
    }

    private string Make(string format)
    {
        string raw = _folder.Write("content.raw", new byte[2 << 20]);
        Tool.Read("qemu-img", "convert", "-f", "raw", "-O", format, raw, _folder["disk." + format]);
        return _folder["disk." + format];
    }

    private static string Fault(string path)
    {
        using var file = Open(path);
        return Should.Throw<InvalidDataException>(() => VirtualDisk.Recognise(file)).Message;
    }

    /// <summary>Puts lines into the description of a VMware disk.</summary>
    private string Described(Func<string, string> change)
    {
        string path = Make("vmdk");
        byte[] bytes = File.ReadAllBytes(path);
        int place = (int)BinaryPrimitives.ReadInt64LittleEndian(bytes.AsSpan(28)) * 512;
        int size = (int)BinaryPrimitives.ReadInt64LittleEndian(bytes.AsSpan(36)) * 512;
        string text = Encoding.Latin1.GetString(bytes, place, size).TrimEnd('\0');
        byte[] changed = Encoding.Latin1.GetBytes(change(text));
        bytes.AsSpan(place, size).Clear();
        changed.CopyTo(bytes, place);
        File.WriteAllBytes(path, bytes);
        return path;
    }

    [Fact]
    public void A_VMware_disk_that_names_a_parent_in_any_way_is_refused()
    {
        using (var file = Open(Described(text => text)))
            VirtualDisk.Recognise(file).Kind.ShouldBe(DiskKind.Vmdk);
        const string Hint = "parentFileNameHint=\"json:{\\\"driver\\\":\\\"nbd\\\",\\\"host\\\":\\\"127.0.0.1\\\"}\"\n";
        // With the identifier that says "none" in a comment, where a search finds it first.
        Fault(Described(text => "# parentCID=ffffffff\n"
            + text.Replace("parentCID=ffffffff", "parentCID=1234abcd\n" + Hint, StringComparison.Ordinal)))
            .ShouldContain("differences to another disk");
        Fault(Described(text => text + "\n" + Hint)).ShouldContain("differences to another disk");
        Fault(Described(text => text + "\n# " + Hint)).ShouldContain("differences to another disk");
        Fault(Described(text => text.Replace("parentCID=ffffffff", "parentCID=1234abcd", StringComparison.Ordinal)))
            .ShouldContain("differences to another disk");
        Fault(Described(text => text.Replace("createType=\"monolithicSparse\"", "# createType=\"monolithicSparse\"\ncreateType=\"vmfs\"",
            StringComparison.Ordinal))).ShouldContain("several files");
        Fault(Described(text => text.Replace("RW ", "RW 10 FLAT \"/etc/passwd\" 0\nRW ", StringComparison.Ordinal))).ShouldContain("several files");
        Fault(Described(text => text + "\nparentCID=ffffffff\n")).ShouldContain("cannot be understood");
        Fault(Described(text => text + "\nnonsense\n")).ShouldContain("cannot be understood");
        // Behind a NUL nobody reads on.
        using var ended = Open(Described(text => text + "\0" + Hint));
        VirtualDisk.Recognise(ended).Kind.ShouldBe(DiskKind.Vmdk);
    }

    [Fact]
    public void A_VirtualBox_disk_with_a_parent_is_refused()
    {
        string path = Make("vdi");
        byte[] sound = File.ReadAllBytes(path);
        foreach (int at in new[] { 0x1A8, 0x1B8 })
        {
            byte[] bytes = [.. sound];
            bytes[at + 3] = 1;
            File.WriteAllBytes(path, bytes);
            Fault(path).ShouldContain("differences to another disk");
        }
        sound[0x4C] = 4;
        File.WriteAllBytes(path, sound);
        Fault(path).ShouldContain("differences to another disk");
    }

    [Fact]
    public void A_Hyper_V_disk_with_a_parent_is_refused()
    {
        string path = Make("vhdx");
        byte[] bytes = File.ReadAllBytes(path);
        byte[] parameters = new Guid("CAA16737-FA36-4D43-B3B6-33F0AA44E76B").ToByteArray();
        byte[] metadata = new Guid("8B7CA206-4790-4B9A-B8FE-575F050F886E").ToByteArray();
        int region = bytes.AsSpan(192 << 10).IndexOf(metadata) + (192 << 10);
        int place = (int)BinaryPrimitives.ReadInt64LittleEndian(bytes.AsSpan(region + 16));
        int entry = bytes.AsSpan(place, 64 << 10).IndexOf(parameters) + place;
        int flags = place + BinaryPrimitives.ReadInt32LittleEndian(bytes.AsSpan(entry + 16)) + 4;
        using (var file = Open(path))
            VirtualDisk.Recognise(file).Kind.ShouldBe(DiskKind.Vhdx);
        bytes[flags] |= 2;
        File.WriteAllBytes(path, bytes);
        Fault(path).ShouldContain("differences to another disk");
        Fault(path).ShouldContain("Merge the two in Windows first");
        Fault(path).ShouldNotContain("qemu-img");
    }

    [Theory]
    [InlineData("vpc", 60, new byte[] { 0, 0, 0, 4 }, "Merge the two in Windows first")]
    [InlineData("qcow2", 8, new byte[] { 0, 0, 0, 0, 0, 0, 1, 0 }, "in a way that makes no sense")]
    [InlineData("qcow2", 72, new byte[] { 0, 0, 0, 0, 0, 0, 0, 4 }, "qemu-img convert")]
    public void Other_disks_that_need_a_second_file_are_refused(string format, int at, byte[] value, string advice)
    {
        string path = Make(format);
        byte[] bytes = File.ReadAllBytes(path);
        value.CopyTo(bytes, at);
        File.WriteAllBytes(path, bytes);
        Fault(path).ShouldContain(advice);
    }

    /// <summary>What qemu-nbd said of such files, in version 7.2.</summary>
    [Theory]
    [InlineData("qemu-nbd: Failed to blk_new_open 'x': VHDX image file 'x' opened read-only, but contains a log that needs to be replayed",
        "its log has")]
    [InlineData("qemu-nbd: Failed to blk_new_open 'x': Unsupported qcow2 feature(s): Unknown incompatible feature: 40", "a feature that")]
    [InlineData("qemu-nbd: Failed to blk_new_open 'x': Failed to get shared \"write\" lock", "in use by another program")]
    [InlineData("qemu-nbd: Failed to blk_new_open 'x': No such file or directory", "could not be opened: No such file or directory")]
    public void What_the_server_refuses_is_said_with_what_to_do(string said, string sentence) => VirtualDisk.Reason(said).ShouldContain(sentence);

    /// <summary>Puts a program of that name before all others on the path of this process.</summary>
    private void Instead(string script, Action use)
    {
        string place = Directory.CreateDirectory(_folder["bin"]).FullName;
        File.WriteAllText(Path.Combine(place, "qemu-nbd"), "#!/bin/sh\n" + script);
        Tool.Read("chmod", "+x", Path.Combine(place, "qemu-nbd"));
        string path = Environment.GetEnvironmentVariable("PATH")!;
        Environment.SetEnvironmentVariable("PATH", $"{place}:{path}");
        try
        {
            use();
        }
        finally
        {
            Environment.SetEnvironmentVariable("PATH", path);
        }
    }

    [Fact]
    public void What_the_server_says_is_told_and_nothing_of_it_is_left()
    {
        string path = Make("qcow2");
        string[] before = Directory.GetDirectories(Path.GetTempPath(), "moorfield-disk-*");
        Instead("echo 'qemu-nbd: Failed to blk_new_open: disk: Unknown something' >&2\nexit 1\n", () =>
            Should.Throw<IOException>(() => VirtualDisk.Serve(new ServedDisk(path, DiskKind.Qcow2), writable: false))
                .Message.ShouldContain("Unknown something"));
        Directory.GetDirectories(Path.GetTempPath(), "moorfield-disk-*").Except(before).ShouldBeEmpty();
    }

    [Fact]
    public void A_server_that_never_answers_is_given_up_and_ended()
    {
        string path = Make("qcow2");
        Instead($"echo $$ >{_folder["pid"]}\nexec sleep 1000\n", () =>
            Should.Throw<IOException>(() => VirtualDisk.Serve(new ServedDisk(path, DiskKind.Qcow2), writable: false))
                .Message.ShouldContain("does not answer"));
        Directory.Exists($"/proc/{File.ReadAllText(_folder["pid"]).Trim()}").ShouldBeFalse();
    }

    [Fact]
    public void Folders_that_killed_processes_left_go_and_others_stay()
    {
        string path = Make("qcow2"), temporary = Path.GetTempPath();
        string left = Path.Combine(temporary, "moorfield-disk-0123456789abcdef0123456789abcdef");
        string others = Path.Combine(temporary, $"moorfield-disk-{Guid.NewGuid()}");
        Directory.CreateDirectory(left);
        File.WriteAllText(Path.Combine(left, "socket"), "");
        Directory.CreateDirectory(others);
        // A newer one may be about to be locked.
        Directory.SetLastWriteTimeUtc(left, DateTime.UtcNow.AddHours(-1));
        Directory.SetLastWriteTimeUtc(others, DateTime.UtcNow.AddHours(-1));
        try
        {
            VirtualDisk.Serve(new ServedDisk(path, DiskKind.Qcow2), writable: false).Dispose();
            Directory.Exists(left).ShouldBeFalse();
            Directory.Exists(others).ShouldBeTrue();
        }
        finally
        {
            Directory.Delete(others);
        }
    }

    [Fact]
    public void A_server_has_ended_when_the_disk_is_closed()
    {
        string path = Make("qcow2");
        for (int i = 0; i < 5; i++)
        {
            using (VirtualDisk.Serve(new ServedDisk(path, DiskKind.Qcow2), writable: true))
            {
                // open for writing: nobody else may be
            }
        }
        Process.GetProcessesByName("qemu-nbd").Where(p => File.ReadAllText($"/proc/{p.Id}/cmdline").Contains(path, StringComparison.Ordinal))
            .ShouldBeEmpty();
    }

    /// <summary>A server of 1 MiB that answers every request and writes down what it was asked.</summary>
    private async Task Answer(Socket listener, List<ushort> asked)
    {
        using var stream = new NetworkStream(await listener.AcceptAsync(), ownsSocket: true);
        byte[] hello = new byte[18];
        BinaryPrimitives.WriteUInt64BigEndian(hello, 0x4e42444d41474943);
        BinaryPrimitives.WriteUInt64BigEndian(hello.AsSpan(8), 0x49484156454F5054);
        BinaryPrimitives.WriteUInt16BigEndian(hello.AsSpan(16), 3);
        await stream.WriteAsync(hello);
        byte[] option = new byte[26];
        await stream.ReadExactlyAsync(option);
        foreach (var (type, data) in new (uint, byte[])[] { (3, new byte[12]), (1, []) })
        {
            byte[] reply = new byte[20 + data.Length];
            BinaryPrimitives.WriteUInt64BigEndian(reply, 0x3e889045565a9);
            BinaryPrimitives.WriteUInt32BigEndian(reply.AsSpan(8), 7);
            BinaryPrimitives.WriteUInt32BigEndian(reply.AsSpan(12), type);
            BinaryPrimitives.WriteUInt32BigEndian(reply.AsSpan(16), (uint)data.Length);
            if (data.Length > 0)
            {
                BinaryPrimitives.WriteUInt64BigEndian(reply.AsSpan(22), 1 << 20);
                BinaryPrimitives.WriteUInt16BigEndian(reply.AsSpan(30), 1 | 4); // has flags, takes flushes
            }
            await stream.WriteAsync(reply);
        }
        byte[] head = new byte[28];
        while (true)
        {
            await stream.ReadExactlyAsync(head);
            ushort command = BinaryPrimitives.ReadUInt16BigEndian(head.AsSpan(6));
            uint length = BinaryPrimitives.ReadUInt32BigEndian(head.AsSpan(24));
            asked.Add(command);
            if (command == 2)
                return;
            if (command == 1)
                await stream.ReadExactlyAsync(new byte[length]);
            byte[] answer = new byte[16 + (command == 0 ? length : 0)];
            BinaryPrimitives.WriteUInt32BigEndian(answer, 0x67446698);
            head.AsSpan(8, 8).CopyTo(answer.AsSpan(8));
            await stream.WriteAsync(answer);
        }
    }

    [Fact]
    public async Task A_flush_reaches_the_server()
    {
        using var listener = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        listener.Bind(new UnixDomainSocketEndPoint(_folder["socket"]));
        listener.Listen(1);
        var asked = new List<ushort>();
        var server = Answer(listener, asked);
        using (var disk = NbdSource.TryConnect(_folder["socket"], TimeSpan.FromSeconds(10))!)
        {
            disk.Length.ShouldBe(1 << 20);
            disk.Write(4096, new byte[512]);
            disk.Flush();
        }
        await server;
        asked.ShouldBe([1, 3, 2]);
    }

    public void Dispose() => _folder.Dispose();
}
