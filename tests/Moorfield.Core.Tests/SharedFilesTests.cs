using Moorfield.Core.Model;
using Moorfield.Core.Storage;
using Moorfield.Core.Trees;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

public sealed class SharedFilesTests : IDisposable
{
    private static readonly WindowsPath Hive = WindowsPath.Of("hive");
    private readonly TemporaryFolder _folder = new();
    private readonly WindowsVolume _volume;

    public SharedFilesTests()
    {
        _folder.Write("hive", "before"u8);
        _volume = WindowsVolume.Open(_folder.Path, new WriteInterceptor());
    }

    public void Dispose()
    {
        _volume.Dispose();
        _folder.Dispose();
    }

    private string? Read()
    {
        using var file = _volume.OpenRead(Hive);
        return file is null ? null : System.Text.Encoding.UTF8.GetString(FileContent.ReadAll(file));
    }

    private string? Replace(string text) =>
        _volume.ReplaceContent(new PreparedContent(FileContent.InMemory([]), FileContent.InMemory(System.Text.Encoding.UTF8.GetBytes(text))), Hive);

    private void PutAnother(string text)
    {
        _folder.Write("other", System.Text.Encoding.UTF8.GetBytes(text));
        File.Move(_folder["other"], _folder["hive"], overwrite: true);
    }

    [Fact]
    public void A_file_is_opened_once_until_it_is_written_and_once_after_that()
    {
        using (_volume.OpenOnce([Hive]))
        {
            Read().ShouldBe("before");
            PutAnother("another");
            Read().ShouldBe("before");
            Replace("after").ShouldBeNull();
            Read().ShouldBe("after");
            PutAnother("the last");
            Read().ShouldBe("after");
        }
        Read().ShouldBe("the last");
        PutAnother("one more");
        Read().ShouldBe("one more");
    }

    [Fact]
    public void A_file_that_was_written_and_read_can_be_written_again()
    {
        using var once = _volume.OpenOnce([Hive]);
        Replace("after");
        Read().ShouldBe("after");
        Replace("after that").ShouldBeNull();
        Read().ShouldBe("after that");
        File.ReadAllText(_folder["hive"]).ShouldBe("after that");
    }

    [Fact]
    public void What_is_written_is_the_file_that_has_the_name_now()
    {
        using var once = _volume.OpenOnce([Hive]);
        Read().ShouldBe("before");
        File.Move(_folder["hive"], _folder["moved"]);
        _folder.Write("hive", "another"u8);
        Replace("after");
        File.ReadAllText(_folder["hive"]).ShouldBe("after");
        File.ReadAllText(_folder["moved"]).ShouldBe("before");
    }

    [Fact]
    public void A_file_with_other_names_becomes_its_own_and_is_read_anew()
    {
        using var once = _volume.OpenOnce([Hive]);
        Read().ShouldBe("before");
        Tool.Read("ln", _folder["hive"], _folder["twin"]);
        Replace("after").ShouldNotBeNull();
        Read().ShouldBe("after");
        File.ReadAllText(_folder["twin"]).ShouldBe("before");
    }

    [Fact]
    public void Other_files_are_opened_each_time()
    {
        using var once = _volume.OpenOnce([WindowsPath.Of("elsewhere")]);
        Read().ShouldBe("before");
        PutAnother("another");
        Read().ShouldBe("another");
        using var missing = _volume.OpenRead(WindowsPath.Of("elsewhere"));
        missing.ShouldBeNull();
    }
}
