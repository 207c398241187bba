using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>Signatures of releases, by a key that the test makes.</summary>
public sealed class SignatureTests : CliTest
{
    [Fact]
    public void What_is_released_is_signed_and_what_was_changed_is_found()
    {
        Tool.Read("minisign", "-G", "-W", "-f", "-p", Folder["moorfield.pub"], "-s", Folder["moorfield.key"]);
        string files = Folder["out"];
        Directory.CreateDirectory(Path.Combine(files, "program"));
        File.WriteAllText(Path.Combine(files, "moorfield_1.0.0_amd64.deb"), "a package");
        File.WriteAllText(Path.Combine(files, "moorfield-1.0.0-linux-x64"), "a program");
        Tool.Read(Path.Combine(Sources, "packaging/sign"), files, Folder["moorfield.key"]);
        // As RELEASING.md and the README say it.
        string Check() => $"cd '{files}' && minisign -V -p '{Folder["moorfield.pub"]}' -m SHA256SUMS && sha256sum -c SHA256SUMS";
        var good = Tool.Run("sh", "-c", Check());
        good.ExitCode.ShouldBe(0, good.Error);
        good.Output.ShouldContain("moorfield_1.0.0_amd64.deb: OK");
        good.Output.ShouldContain("moorfield-1.0.0-linux-x64: OK");
        File.AppendAllText(Path.Combine(files, "moorfield-1.0.0-linux-x64"), ".");
        Tool.Run("sh", "-c", Check()).ExitCode.ShouldNotBe(0);
        File.WriteAllText(Path.Combine(files, "moorfield-1.0.0-linux-x64"), "a program");
        Tool.Run("sh", "-c", Check()).ExitCode.ShouldBe(0);
        File.AppendAllText(Path.Combine(files, "SHA256SUMS"), "\n");
        Tool.Run("sh", "-c", Check()).ExitCode.ShouldNotBe(0);
        // Signed again, it is right again, without the former sums among the files.
        Tool.Read(Path.Combine(Sources, "packaging/sign"), files, Folder["moorfield.key"]);
        File.ReadAllLines(Path.Combine(files, "SHA256SUMS")).Length.ShouldBe(2);
        Tool.Run("sh", "-c", Check()).ExitCode.ShouldBe(0);
    }

    [Fact]
    public void No_key_is_among_the_sources() =>
        Tool.Run("git", "-C", Sources, "grep", "-l", "minisign encrypted " + "secret key").Output.ShouldBeEmpty();
}
