using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Storage;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Leftovers of desktop programs that are gone, and entries that are none.</summary>
public sealed class ProgramLeftoverTests : IDisposable
{
    private const string Version = @"Microsoft\Windows\CurrentVersion", View32 = @"WOW6432Node\";
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Bench _bench;

    public ProgramLeftoverTests()
    {
        _bench = new Bench(_folder);
        Directory.CreateDirectory(At("Program Files (x86)/Common Files"));
    }

    private string At(string path) => Path.Combine(_bench.Root, path);

    private List<string> Found() =>
        [.. _bench.Read().Leftovers.Where(l => l.Program is not null).Select(l => $"{l.Kind} {l.Program}{(l.Sid is { } sid ? $" of {sid[^4..]}" : "")}")];

    private void SetRun(params (string Name, string Command)[] values) => HiveEdit.Change(_bench.Software, hive =>
    {
        foreach (var (name, command) in values)
            hive.Create($@"{Version}\Run").Set(HiveValue.FromString(name, command));
    });

    private void AddEntry(string name, params (string Value, string Text)[] values) => HiveEdit.Change(_bench.Software, hive =>
    {
        var key = hive.Create($@"{Version}\Uninstall\{name}");
        key.Set(HiveValue.FromString("DisplayName", name));
        foreach (var (value, text) in values)
            key.Set(HiveValue.FromString(value, text));
    });

    [Fact]
    public void Programs_that_are_there_leave_nothing() => Found().ShouldBeEmpty();

    [Fact]
    public void Entries_of_a_program_whose_folder_is_gone_are_found_wherever_they_are()
    {
        Directory.Delete(At("Program Files (x86)/Gannet"), recursive: true);
        Directory.Delete(At("Users/rowan/AppData/Local/CardCounter"), recursive: true);
        Directory.Delete(At("ProgramData/Pennywhistle"), recursive: true);
        string rowan = $" of {Demo.Sid("rowan")[^4..]}";
        Found().ShouldBe(
        [
            "ProgramEntry Card Counter" + rowan, "ProgramEntry Gannet Chart Plotter", "StartEntry Card Counter" + rowan, "StartEntry Chart Plotter",
            "StartEntry Pennywhistle Post", "Shortcut Pennywhistle Games" + rowan, @"ScheduledTask Gannet and Rowe\Chart Update",
        ]);
    }

    [Fact]
    public void Clearing_takes_them_but_not_tasks_and_undo_gives_them_back()
    {
        Directory.Delete(At("Program Files (x86)/Gannet"), recursive: true);
        Directory.Delete(At("Users/rowan/AppData/Local/CardCounter"), recursive: true);
        string before = VolumeState.Files(_bench.Root);
        using (var target = _bench.Open())
        {
            var clearing = new LeftoverRemoval(target, target.Read([null]));
            var outcome = clearing.CarryOut(clearing.Plan(), new RunSettings(_folder["vault"], new WriteInterceptor()))!;
            outcome.Failures.ShouldBeEmpty();
            outcome.Verified.ShouldBeTrue();
        }
        Found().ShouldBe([@"ScheduledTask Gannet and Rowe\Chart Update"]);
        File.Exists(At("Users/rowan/AppData/Roaming/Microsoft/Windows/Start Menu/Programs/Startup/Card Counter.lnk")).ShouldBeFalse();
        Directory.Exists(At("Users/rowan/AppData/Roaming/Microsoft/Windows/Start Menu/Programs/Startup")).ShouldBeTrue();
        HiveEdit.HasKey(_bench.Software, $@"{View32}{Version}\Uninstall\GannetPlotter").ShouldBeFalse();
        using (var target = _bench.Open())
            new LeftoverRemoval(target, target.Read([null])).Plan().HasEffect.ShouldBeFalse();
        _bench.Undo(1).Failures.ShouldBeEmpty();
        VolumeState.Files(_bench.Root).ShouldBe(before);
    }

    [Fact]
    public void A_task_of_a_program_that_left_its_account_is_told_afterwards()
    {
        _bench.Remove("Notes", "ivy", more: w => w with
        {
            Programs = [.. DesktopProgramGroup.Of(Bench.Demonstration).Where(p => p.Name == "Saltmarsh Tide Folder")],
        }).Failures.ShouldBeEmpty();
        Found().ShouldBe(["ScheduledTask Tide Folder Update of ivy"]);
    }

    [Fact]
    public void A_start_entry_is_one_when_its_program_is_surely_gone()
    {
        Directory.CreateDirectory(At("Empty"));
        Directory.CreateSymbolicLink(At("Program Files/Moved"), "/nowhere");
        SetRun(
            ("a", @"C:\Program Files\Gone\gone.exe"), ("b", @"""C:\Program Files\Gone\gone.exe"" /tray"), ("c", @"""C:\Program Files\Gone\gone"" /x"),
            ("d", @"C:\Program Files\Ticket Printer\other.exe"),
            ("Windows adds the ending", @"""C:\Program Files\Ticket Printer\tray"" /x"),
            ("as a 32-bit program names it", @"C:\Program Files\Gannet\GannetPlotter.exe"),
            ("of Windows", @"%SystemRoot%\System32\gone.exe"), ("searched for", @"gone.exe /tray"), ("another drive", @"D:\Gone\gone.exe"),
            ("another machine", @"\\harbour\share\gone.exe"), ("no folder", @"C:\gone.exe"), ("a part of a disk", @"C:\Elsewhere\Gone\gone.exe"),
            ("nothing there", @"C:\Empty\Gone\gone.exe"), ("behind a link", @"C:\Program Files\Moved\gone.exe"),
            ("short names", @"C:\Program Files\GONEAW~1\gone.exe"), ("a short name", @"C:\Program Files\Gone\GONEAW~12.EXE"),
            ("longer than any name", $@"C:\Program Files\{new string('x', 256)}\gone.exe"),
            ("far behind it", @"C:\Program Files\Moved\Deeper\gone.exe"));
        Found().ShouldBe(["StartEntry a", "StartEntry b", "StartEntry c", "StartEntry d"]);
    }

    [Fact]
    public void A_program_entry_is_one_when_neither_its_folder_nor_what_removes_it_is_there()
    {
        const string Folder = "InstallLocation", Uninstall = "UninstallString", Gone = @"C:\Program Files\Gone";
        AddEntry("a", (Folder, Gone));
        AddEntry("b", (Folder, Gone), (Uninstall, @"""C:\Program Files\Gone\remove.exe"""));
        AddEntry("c", (Uninstall, @"""C:\Program Files\Gone\remove.exe"" /x"));
        AddEntry("removed from elsewhere", (Folder, Gone), (Uninstall, @"C:\Program Files\Ticket Printer\remove.exe"));
        AddEntry("known to the installer", (Folder, Gone), (Uninstall, "MsiExec.exe /X{4B1C0D2E-0000-4000-8000-0000000000A7}"));
        AddEntry("removed by Windows", (Folder, Gone), (Uninstall, @"%SystemRoot%\System32\rundll32.exe x,y"));
        AddEntry("folder is there", (Folder, @"C:\Program Files\Ticket Printer"), (Uninstall, @"C:\Program Files\Gone\remove.exe"));
        AddEntry("says nothing");
        AddEntry("short names", (Folder, @"C:\Program Files\GONEAW~1"), (Uninstall, @"C:\PROGRA~1\GONEAW~1\remove.exe"));
        AddEntry("a short name", (Folder, Gone), (Uninstall, @"C:\PROGRA~1\Gone\remove.exe"));
        AddEntry("longer than any name", (Folder, $@"C:\Program Files\{new string('x', 300)}"),
            (Uninstall, $@"C:\Program Files\{new string('x', 300)}\r.exe"));
        Found().ShouldBe(["ProgramEntry a", "ProgramEntry b", "ProgramEntry c"]);
    }

    [Fact]
    public void Variables_of_an_account_lead_into_its_own_profile()
    {
        HiveEdit.Change(At("Users/rowan/NTUSER.DAT"), hive =>
        {
            foreach (var (name, command) in new[] { ("gone", @"%LocalAppData%\Gone\remove.exe"),
                ("there", @"%LocalAppData%\CardCounter\remove.exe") })
            {
                var key = hive.Create($@"Software\{Version}\Uninstall\{name}");
                key.Set(HiveValue.FromString("DisplayName", name));
                key.Set(HiveValue.FromString("UninstallString", command));
            }
        });
        Found().ShouldBe([$"ProgramEntry gone of {Demo.Sid("rowan")[^4..]}"]);
    }

    [Fact]
    public void What_Windows_Installer_records_is_none()
    {
        Directory.Delete(At("Program Files/Label Maker"), recursive: true);
        Found().ShouldBe(["StartEntry Label Maker templates"]);
    }

    [Fact]
    public void A_shortcut_to_a_document_that_is_gone_is_its_owners_business()
    {
        string menu = At("Users/rowan/AppData/Roaming/Microsoft/Windows/Start Menu/Programs/Pennywhistle Games"), link = menu + "/Card Counter.lnk";
        byte[] content = File.ReadAllBytes(link);
        string text = System.Text.Encoding.Latin1.GetString(content);
        Directory.Delete(At("Users/rowan/AppData/Local/CardCounter"), recursive: true);
        Found().ShouldContain(l => l.StartsWith("Shortcut", StringComparison.Ordinal));
        File.WriteAllBytes(link, System.Text.Encoding.Latin1.GetBytes(text.Replace(".exe", ".odt", StringComparison.Ordinal)
            .Replace(".\0e\0x\0e\0", ".\0o\0d\0t\0", StringComparison.Ordinal)));
        Found().ShouldNotContain(l => l.StartsWith("Shortcut", StringComparison.Ordinal));
    }

    [Fact]
    public void A_shortcut_to_short_names_leads_to_what_only_Windows_knows()
    {
        string link = At("Users/rowan/AppData/Roaming/Microsoft/Windows/Start Menu/Programs/Pennywhistle Games/Card Counter.lnk");
        string text = System.Text.Encoding.Latin1.GetString(File.ReadAllBytes(link));
        text.ShouldContain("CardCounter\\");
        Directory.Delete(At("Users/rowan/AppData/Local/CardCounter"), recursive: true);
        File.WriteAllBytes(link, System.Text.Encoding.Latin1.GetBytes(text.Replace("CardCounter\\", "CARDCO~1.X\\", StringComparison.Ordinal)
            .Replace("C\0a\0r\0d\0C\0o\0u\0n\0t\0e\0r\0\\\0", "C\0A\0R\0D\0C\0O\0~\01\0.\0X\0Y\0\\\0", StringComparison.Ordinal)));
        Found().ShouldNotContain(l => l.StartsWith("Shortcut", StringComparison.Ordinal));
    }

    [Fact]
    public void One_shortcut_among_others_goes_alone()
    {
        string menu = At("ProgramData/Microsoft/Windows/Start Menu/Programs/Charts"), desktop = At("Users/Public/Desktop");
        byte[] link = File.ReadAllBytes(At("ProgramData/Microsoft/Windows/Start Menu/Programs/StartUp/Chart Plotter.lnk"));
        foreach (string folder in new[] { menu, desktop })
        {
            Directory.CreateDirectory(folder);
            File.WriteAllBytes(folder + "/Plotter.lnk", link);
        }
        File.WriteAllText(menu + "/Read me.txt", "x");
        Found().ShouldBeEmpty();
        Directory.Delete(At("Program Files (x86)/Gannet"), recursive: true);
        Found().Count(l => l == "Shortcut Plotter").ShouldBe(2);
        _bench.Read().Leftovers.Where(l => l.Kind == LeftoverKind.Shortcut).Select(l => ((TreeLocation)l.Location).Path.ToString()).ShouldBe(
            [@"ProgramData\Microsoft\Windows\Start Menu\Programs\Charts\Plotter.lnk", @"Users\Public\Desktop\Plotter.lnk"], ignoreOrder: true);
    }

    [Fact]
    public void Shortcuts_deep_in_what_people_keep_on_a_desktop_are_not_looked_for()
    {
        byte[] link = File.ReadAllBytes(At("ProgramData/Microsoft/Windows/Start Menu/Programs/StartUp/Chart Plotter.lnk"));
        Directory.CreateDirectory(At("Users/ivy/Desktop/Work/Old"));
        Directory.CreateDirectory(At("Users/ivy/AppData/Roaming/Microsoft/Windows/Start Menu/Programs/Charts/Old"));
        foreach (string folder in new[] { "Desktop", "Desktop/Work", "Desktop/Work/Old",
            "AppData/Roaming/Microsoft/Windows/Start Menu/Programs/Charts/Old" })
            File.WriteAllBytes(At($"Users/ivy/{folder}/Plotter.lnk"), link);
        Directory.Delete(At("Program Files (x86)/Gannet"), recursive: true);
        _bench.Read().Leftovers.Where(l => l.Kind == LeftoverKind.Shortcut).Select(l => ((TreeLocation)l.Location).Path.ToString()).ShouldBe(
            [@"Users\ivy\AppData\Roaming\Microsoft\Windows\Start Menu\Programs\Charts\Old", @"Users\ivy\Desktop\Plotter.lnk"], ignoreOrder: true);
    }

    public void Dispose() => _folder.Dispose();
}
