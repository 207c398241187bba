using System.Diagnostics;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>Media that are started by firmware in a virtual machine, before and after they are built anew.</summary>
public sealed class MediumStartTests : CliTest
{
    private const string Code = "/usr/share/OVMF/OVMF_CODE_4M.fd", Variables = "/usr/share/OVMF/OVMF_VARS_4M.fd";

    private string Start(string iso, bool uefi)
    {
        string variables = Folder["vars.fd"];
        string[] machine = ["-m", "256", "-boot", "d"];
        if (uefi)
        {
            File.Copy(Variables, variables, overwrite: true);
            machine = ["-machine", "q35", "-m", "512", "-drive", $"if=pflash,format=raw,unit=0,readonly=on,file={Code}", "-drive",
                $"if=pflash,format=raw,unit=1,file={variables}"];
        }
        var start = new ProcessStartInfo("timeout") { UseShellExecute = false, RedirectStandardOutput = true, RedirectStandardError = true };
        foreach (string argument in (string[])["120", "qemu-system-x86_64", "-accel", "tcg", .. machine, "-display", "none", "-no-reboot", "-net",
            "none", "-cdrom", iso, "-serial", "stdio", "-monitor", "none", "-device", "isa-debug-exit,iobase=0xf4,iosize=4"])
            start.ArgumentList.Add(argument);
        using var process = Process.Start(start)!;
        var error = process.StandardError.ReadToEndAsync(TestContext.Current.CancellationToken);
        string output = process.StandardOutput.ReadToEnd();
        process.WaitForExit();
        process.ExitCode.ShouldBe(1, error.Result); // what the exit device makes of 0
        return output;
    }

    [Theory]
    [InlineData(MediumShape.Vendor)]
    [InlineData(MediumShape.Authored)]
    public void A_medium_starts_under_both_firmwares_before_and_after_it_is_built_anew(MediumShape shape)
    {
        if (!File.Exists(Code) || !File.Exists("/usr/bin/qemu-system-x86_64"))
            Assert.Skip("There is no virtual machine here (qemu-system-x86, ovmf).");
        string image = Demo.CopyImageTo(Folder);
        MediumSource.Enlarge(Folder, image);
        MediumBuilder.LayOut(Folder["tree"], image, "install.wim");
        MediumBuilder.Make(Folder["tree"], Folder["vendor.iso"], MediumSource.Label, shape);
        string answers = Folder.Write("answers.xml", "<answers/>"u8);
        Run("media", "build", Folder["vendor.iso"], "--to", Folder["built.iso"], "Weather", "--label", "COUNTERS", "--split", "--part", "1", "--add",
            $"{answers}=answers.xml", "--yes", "--accept-costs").ExitCode.ShouldBe(0);
        Run("media", "build", Folder["vendor.iso"], "--to", Folder["whole.iso"], "Weather", "--edition", "2", "--only-editions", "--yes",
            "--accept-costs").ExitCode.ShouldBe(0);
        foreach (string iso in new[] { "vendor.iso", "built.iso", "whole.iso" })
        {
            Start(Folder[iso], uefi: false).ShouldContain(BootSectors.BiosText);
            Start(Folder[iso], uefi: true).ShouldContain(BootSectors.UefiText);
        }
        // What starts it is as it was, where other programs look for it.
        string Entries(string iso) => string.Join('\n', Tool.Read("xorriso", "-indev", "stdio:" + Folder[iso], "-report_el_torito", "plain")
            .Split('\n').Where(l => l.StartsWith("El Torito boot img", StringComparison.Ordinal)).Select(l => l[..l.LastIndexOf(' ')]));
        Entries("built.iso").ShouldBe(Entries("vendor.iso"));
    }

    [Fact]
    public void The_media_of_the_demo_are_made_beside_its_image()
    {
        Demo.CopyImageTo(Folder);
        var outcome = Run("demo", "media", Folder.Path);
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        foreach (string name in MediumBuilder.Names.Take(3))
        {
            Run("compare", Folder[name], Folder["counter-install.wim"]).Output.ShouldContain("Nothing differs.");
            Tool.Read("udfinfo", Folder[name]).ShouldContain("udfrev=1.02");
        }
        Run("image", "list", Folder["counter-house.iso"]).Output.ShouldContain("sources/install.esd");
        Run("image", "list", Folder["counter-vendor.iso"]).Output.ShouldContain("(views: UDF, ISO 9660)");
        Run("demo", "media", Folder.Path).Error.ShouldContain("is there already");
        Run("demo", "media", Folder["none"]).ExitCode.ShouldBe(2);
        Directory.Exists(Folder[".media"]).ShouldBeFalse();
    }
}
