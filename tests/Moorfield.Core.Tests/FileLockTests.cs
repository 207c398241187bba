using Microsoft.Win32.SafeHandles;
using Moorfield.Core.Model;
using Moorfield.Core.Storage;
using Moorfield.Formats.Native;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Locks of files and of folders. What holds between hosts is tried by tests/network/trial.</summary>
public sealed class FileLockTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);

    /// <summary>Whatever a test did, nothing of its folder is left open.</summary>
    public void Dispose()
    {
        Directory.GetFiles("/proc/self/fd").Select(f => new FileInfo(f).LinkTarget)
            .Where(t => t?.StartsWith(_folder.Path, StringComparison.Ordinal) == true).ShouldBeEmpty();
        _folder.Dispose();
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void A_file_that_is_only_read_is_locked_by_one_at_a_time(bool byByte)
    {
        using var first = Open();
        using var second = Open();
        var held = Take(first, byByte, isShared: false);
        held.ShouldNotBeNull();
        Take(second, byByte, isShared: false).ShouldBeNull();
        Take(second, byByte, isShared: true).ShouldBeNull();
        held.Dispose();
        using var shared = Take(first, byByte, isShared: true);
        using var also = Take(second, byByte, isShared: true);
        (shared, also).ShouldSatisfyAllConditions(p => p.shared.ShouldNotBeNull(), p => p.also.ShouldNotBeNull());
        using var third = Open();
        Take(third, byByte, isShared: false).ShouldBeNull();
    }

    [Fact]
    public void A_lock_of_a_byte_gives_the_same_file_for_writing_and_leaves_the_bytes_that_QEMU_locks()
    {
        using var read = Open();
        using var held = FileLock.TryTakeByte(read, "disk", isShared: false).ShouldNotBeNull();
        File.Delete(_folder["file"]);
        RandomAccess.Write(held.Writable.ShouldNotBeNull(), "new"u8, 0);
        byte[] now = new byte[3];
        RandomAccess.Read(read, now, 0).ShouldBe(3);
        now.ShouldBe("new"u8.ToArray());
        using var qemu = RegularFile.Open($"/proc/self/fd/{read.DangerousGetHandle()}", LibC.ReadWrite).ShouldNotBeNull();
        var wanted = new LibC.FileLock { Type = LibC.WriteLock, Start = 0, Length = 1000 };
        LibC.ControlLock(qemu, LibC.SetFileLock, ref wanted).ShouldBe(0);
    }

    [Fact]
    public void A_file_that_cannot_be_locked_is_told_and_not_said_to_be_in_use()
    {
        // A folder cannot be opened for writing, whoever asks.
        using var folder = Folder.Open(_folder.Path, new WriteInterceptor());
        Should.Throw<MoorfieldException>(() => FileLock.TryTakeByte(folder.Handle, "that", isShared: false)).Message
            .ShouldContain("that cannot be locked, so two runs at once would not see each other");
    }

    [Fact]
    public void A_folder_is_shared_by_many_or_taken_by_one()
    {
        using var folder = Folder.Open(_folder.Path, new WriteInterceptor());
        var first = FileLock.Share(folder).ShouldNotBeNull();
        var second = FileLock.Share(folder).ShouldNotBeNull();
        first.TryTakeAlone().ShouldBeFalse();
        FileLock.TryTake(folder).ShouldBeNull();
        second.Dispose();
        first.TryTakeAlone().ShouldBeTrue();
        first.Dispose();
        using var alone = FileLock.TryTake(folder).ShouldNotBeNull();
        FileLock.TryTake(folder).ShouldBeNull();
        new FileInfo(_folder["lock"]).Length.ShouldBe(0);
    }

    [Fact]
    public async Task Who_waits_for_a_folder_gets_it_when_it_is_free()
    {
        using var folder = Folder.Open(_folder.Path, new WriteInterceptor());
        var first = FileLock.Take(folder);
        bool isFree = false;
        var waiting = Task.Run(() =>
        {
            using var second = FileLock.Take(folder);
            return Volatile.Read(ref isFree);
        }, TestContext.Current.CancellationToken);
        await Task.Delay(100, TestContext.Current.CancellationToken);
        Volatile.Write(ref isFree, true);
        first.Dispose();
        (await waiting).ShouldBeTrue();
    }

    [Fact]
    public void A_link_in_the_place_of_the_lock_is_not_followed()
    {
        File.WriteAllText(_folder["elsewhere"], "");
        File.CreateSymbolicLink(_folder["lock"], _folder["elsewhere"]);
        using var folder = Folder.Open(_folder.Path, new WriteInterceptor());
        FileLock.Share(folder).ShouldBeNull();
        Should.Throw<MoorfieldException>(() => FileLock.Take(folder));
        File.Delete(_folder["lock"]);
        Directory.CreateDirectory(_folder["lock"]);
        Should.Throw<MoorfieldException>(() => FileLock.TryTake(folder));
    }

    [Fact]
    public void Where_the_lock_cannot_be_made_that_is_told_and_not_that_it_is_missing()
    {
        using var folder = Folder.Open("/sys/kernel", new WriteInterceptor());
        Should.Throw<MoorfieldException>(() => FileLock.Take(folder)).Message.ShouldNotContain("No such file");
        FileLock.Share(folder).ShouldBeNull();
    }

    [Fact]
    public void A_file_system_is_known_by_the_name_that_its_NFS_server_gives_it()
    {
        string[] volumes =
        [
            "NV SERVER   PORT DEV          FSID                              FSC",
            "v4 0a090001  801 0:44         e9a14749293d4776:b657195bbb39e89f no ",
            "v3 0a090002  801 0:45         1f:0                              no ",
        ];
        TargetLocation.NetworkIdentifier(volumes, "0:44").ShouldBe("nfs:0a090001:e9a14749293d4776:b657195bbb39e89f");
        TargetLocation.NetworkIdentifier(volumes, "0:45").ShouldBe("nfs:0a090002:1f:0");
        TargetLocation.NetworkIdentifier(volumes, "0:4").ShouldBeNull();
    }

    private SafeFileHandle Open()
    {
        if (!File.Exists(_folder["file"]))
            File.WriteAllText(_folder["file"], "old");
        return RegularFile.Open(_folder["file"], LibC.ReadOnly).ShouldNotBeNull();
    }

    private static FileLock? Take(SafeFileHandle file, bool byByte, bool isShared) =>
        byByte ? FileLock.TryTakeByte(file, "file", isShared) : FileLock.TryTake(file, "file", isShared);
}
