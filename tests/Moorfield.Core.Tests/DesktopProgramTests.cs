using System.Collections.Immutable;
using Moorfield.Core.Layout;
using Moorfield.Core.Model;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Desktop programs: who has them, what starts them, what installs them at a first sign-in.</summary>
public sealed class DesktopProgramTests : IDisposable
{
    private const string Uninstall = @"Microsoft\Windows\CurrentVersion\Uninstall", Version = @"Microsoft\Windows\CurrentVersion",
        View32 = "WOW6432Node";
    private readonly TemporaryFolder _folder = new(inMemory: true);

    private Bench NewBench(bool withPrograms = false) => new(_folder, few: !withPrograms);

    private static string Told(StartEntry start) =>
        $"{start.Kind} {start.Name} for {start.Scope}{(start.Sid is { } sid ? " " + sid[^4..] : "")}{(start.IsOff ? ", off" : "")}: {start.Program}";

    private static DesktopProgramGroup Named(SystemSnapshot system, string name) => DesktopProgramGroup.Of(system).Single(g => g.Name == name);

    private static RemovalRequest ForNewcomers(params IEnumerable<DesktopProgramGroup> programs) =>
        new([], new Audience([], Newcomers: true)) { Programs = [.. programs] };

    [Fact]
    public void Programs_are_listed_once_with_who_has_them_and_without_parts_of_others()
    {
        var system = Bench.Demonstration;
        DesktopProgramGroup.Of(system).Select(g => $"{g.Name}: {g.IsMachines}, {system.NamesOf(g.Sids)}, {g.Newcomers}, "
            + $"{string.Join(" and ", g.Versions)}, {g.Bytes >> 10}, {g.Publisher}").ShouldBe(
        [
            "Card Counter: False, rowan, False, 0.9, 310, Pennywhistle Games",
            "Gannet Chart Plotter: True, , False, 7.0, 48200, Gannet and Rowe",
            "Larkfield Label Maker: True, , False, 5.1.0, 12600, Larkfield Press",
            "Pennywhistle Post: False, , True, , 0, ",
            "Saltmarsh Log Editor: True, , False, 1.8.2, 2150, Saltmarsh Ferries",
            "Saltmarsh Ticket Printer: True, , False, 3.2, 5400, Saltmarsh Ferries",
            "Saltmarsh Tide Folder: False, ivy and rowan, True, 24.2.9 and 24.3.1, 122300, Saltmarsh Ferries",
        ]);
        var plotter = Named(system, "Gannet Chart Plotter").Entries.ShouldHaveSingleItem();
        plotter.UninstallCommand.ShouldBe("\"C:\\Program Files (x86)\\Gannet\\uninstall.exe\"");
        (plotter.QuietCommand, plotter.Folder?.ToString(), plotter.IsInstallerProduct).ShouldBe((null, @"Program Files (x86)\Gannet", false));
        var maker = Named(system, "Larkfield Label Maker").Entries.ShouldHaveSingleItem();
        (maker.IsInstallerProduct, maker.Folder?.ToString()).ShouldBe((true, @"Program Files\Label Maker"));
        Named(system, "Saltmarsh Log Editor").Entries[0].Folder.ShouldBeNull();
        var own = Named(system, "Saltmarsh Tide Folder").Entries.Single(e => e.Sid == Demo.Sid("ivy"));
        own.QuietCommand.ShouldEndWith("/remove /quiet");
        own.Folder.ShouldBe(WindowsPath.Of(@"Users\ivy\AppData\Local\Saltmarsh\Tide Folder"));
    }

    [Fact]
    public void What_starts_each_is_told_by_kind_with_what_was_switched_off()
    {
        var system = Bench.Demonstration;
        IEnumerable<string> Starts(string name) => Named(system, name).Starts.Select(Told);
        Starts("Card Counter").ShouldBe(
            [$@"Shortcut Card Counter for Account {Demo.Sid("rowan")[^4..]}: Users\rowan\AppData\Local\CardCounter\RowanCardCounter.exe"]);
        Starts("Gannet Chart Plotter").ShouldBe(
        [
            @"Shortcut Chart Plotter for Machine: Program Files (x86)\Gannet\GannetPlotter.exe",
            @"Task Gannet and Rowe\Chart Update for Machine: Program Files (x86)\Gannet\update.exe",
        ]);
        Starts("Larkfield Label Maker").ShouldBe([@"ActiveSetup Label Maker templates for Newcomers: Program Files\Label Maker\templates.exe"]);
        Starts("Saltmarsh Ticket Printer").ShouldBe(
        [
            @"Run TicketPrinterTray for Machine: Program Files\Ticket Printer\tray.exe",
            @"Service TicketSpooler for Machine: Program Files\Ticket Printer\spooler.exe",
        ]);
        Starts("Saltmarsh Tide Folder").Select(s => s[..s.IndexOf(':', StringComparison.Ordinal)]).ShouldBe(
        [
            $"Run TideFolder for Account {Demo.Sid("ivy")[^4..]}", "Task Tide Folder Update of ivy for Machine",
            $"Run TideFolder for Account {Demo.Sid("rowan")[^4..]}, off",
        ]);
        Named(system, "Saltmarsh Tide Folder").Starts.Single(s => s.Kind == StartKind.Task).Principal.ShouldBe(Demo.Sid("ivy"));
        DesktopProgramGroup.Of(system).Where(g => g.StartsWithWindows).Select(g => g.Name).ShouldBe(
            ["Card Counter", "Gannet Chart Plotter", "Saltmarsh Ticket Printer", "Saltmarsh Tide Folder"]);
    }

    [Fact]
    public void What_installs_itself_at_a_first_sign_in_is_known_by_its_setup_program()
    {
        var system = Bench.Demonstration;
        Named(system, "Saltmarsh Tide Folder").Installers.Select(Told).ShouldBe(
            [@"Run TideFolderSetup for Newcomers: Windows\System32\TideFolderSetup.exe"]);
        Named(system, "Pennywhistle Post").Installers.Select(Told).ShouldBe(
            [@"ActiveSetup Pennywhistle Post for Newcomers: ProgramData\Pennywhistle\PostSetup.exe"]);
        var installer = Named(system, "Saltmarsh Tide Folder").Installers.Single().Location;
        installer.ShouldBe(new ValueLocation(WindowsPath.Of(@"Users\Default\NTUSER.DAT"), $@"Software\{Version}\Run", "TideFolderSetup"));
        // Nothing else than what is there tells a name where nobody has it yet.
        new Bench(Demo.CopyImageTo(_folder), _folder["vault"]).ReadAll()[0].DesktopPrograms.Select(p => (p.Name, p.Newcomers))
            .ShouldBe([("Pennywhistle Post", true), ("TideFolderSetup", true)]);
    }

    [Fact]
    public void Shared_folders_are_no_programs_and_the_deepest_folder_owns_what_starts()
    {
        var bench = NewBench();
        HiveEdit.Change(bench.Software, hive =>
        {
            Program(hive, "Wide", ("InstallLocation", @"C:\Program Files\"));
            Program(hive, "Root", ("InstallLocation", @"C:\"));
            Program(hive, "System", ("UninstallString", @"C:\Windows\System32\gone.exe /x"));
            Program(hive, "Suite", ("InstallLocation", "\"C:\\Program Files\\Suite\\\""));
            Program(hive, "Part", ("QuietUninstallString", "\"%ProgramFiles%\\Suite\\Part\\remove.exe\" /q"), ("UninstallString", @"C:\Other\x.exe"));
            Run(hive, $@"{Version}\Run", ("a", @"C:\Program Files\Suite\a.exe"), ("b", @"C:\Program Files\Suite\Part\Deep\b.exe /x"),
                ("c", @"C:\Program Files\Suited\c.exe"), ("d", @"rundll32.exe C:\Program Files\Suite\d.dll"), ("e", @"\\host\share\e.exe"));
        });
        var programs = bench.Read().DesktopPrograms;
        programs.Where(p => p.Name is "Wide" or "Root" or "System").ShouldAllBe(p => p.Folder == null);
        programs.Single(p => p.Name == "Suite").Starts.Select(s => s.Name).ShouldBe(["a"]);
        programs.Single(p => p.Name == "Part").Starts.Select(s => s.Name).ShouldBe(["b"]);
    }

    [Fact]
    public void Services_and_tasks_of_windows_itself_start_no_program_and_drivers_are_called_so()
    {
        var bench = NewBench();
        HiveEdit.Change(bench.Software, hive => Program(hive, "Suite", ("InstallLocation", @"C:\Program Files\Suite")));
        HiveEdit.Change(Path.Combine(bench.Root, "Windows/System32/config/SYSTEM"), hive =>
        {
            Service(hive, "SuiteDriver", @"\??\C:\Program Files\Suite\s.sys", 1, 3);
            Service(hive, "SuiteOff", @"C:\Program Files\Suite\s.exe -k all", 0x10, 4);
            Service(hive, "SuiteOnDemand", @"C:\Program Files\Suite\d.exe", 0x10, 3);
            Service(hive, "Elsewhere", @"C:\Program Files\Other\s.exe", 0x10, 2);
            hive.Create(@"ControlSet001\Services\Nothing");
        });
        var suite = Named(bench.Read(), "Suite");
        suite.Starts.Select(Told).ShouldBe(
        [
            @"Service SuiteDriver (driver) for Machine: Program Files\Suite\s.sys", @"Service SuiteOff for Machine, off: Program Files\Suite\s.exe",
            @"Service SuiteOnDemand for Machine: Program Files\Suite\d.exe",
        ]);
        suite.StartsWithWindows.ShouldBeFalse();
    }

    [Theory]
    [InlineData(0x1u, 0u, true)]
    [InlineData(0x10u, 2u, true)]
    [InlineData(0x10u, 3u, false)]
    [InlineData(0x10u, 4u, false)]
    public void A_service_starts_with_windows_unless_it_is_on_demand_or_disabled(uint type, uint start, bool starts)
    {
        var bench = NewBench();
        HiveEdit.Change(bench.Software, hive => Program(hive, "Suite", ("InstallLocation", @"C:\Program Files\Suite")));
        HiveEdit.Change(Path.Combine(bench.Root, "Windows/System32/config/SYSTEM"),
            hive => Service(hive, "Suite", @"C:\Program Files\Suite\s.exe", type, start));
        Named(bench.Read(), "Suite").StartsWithWindows.ShouldBe(starts);
    }

    [Theory]
    [InlineData("LogonTrigger", true)]
    [InlineData("BootTrigger", true)]
    [InlineData("TimeTrigger", false)]
    public void A_task_starts_with_windows_by_its_trigger(string trigger, bool starts)
    {
        var bench = NewBench();
        HiveEdit.Change(bench.Software, hive =>
        {
            Program(hive, "Suite", ("InstallLocation", @"C:\Program Files\Suite"));
            Run(hive, $@"{Version}\RunOnce", ("Once", @"C:\Program Files\Suite\once.exe"));
        });
        string folder = Directory.CreateDirectory(Path.Combine(bench.Root, "Windows/System32/Tasks/Suite")).FullName;
        File.WriteAllText(Path.Combine(folder, "Update"), $"<Task><Triggers><{trigger}/></Triggers><Actions><Exec>"
            + @"<Command>C:\Program Files\Suite\u.exe</Command></Exec></Actions></Task>");
        var suite = Named(bench.Read(), "Suite");
        suite.Starts.Select(s => s.Name).ShouldBe(["Once", @"Suite\Update"]);
        suite.StartsWithWindows.ShouldBe(starts);
    }

    [Fact]
    public void An_accounts_entries_never_belong_to_another_account()
    {
        var bench = NewBench(withPrograms: true);
        string hive = Path.Combine(bench.Root, "Users/ivy/NTUSER.DAT");
        HiveEdit.Change(hive, h => Run(h, $@"Software\{Version}\RunOnce", ("Stray", @"C:\Users\rowan\AppData\Local\CardCounter\x.exe"),
            ("Mine", @"%LocalAppData%\Saltmarsh\Tide Folder\y.exe")));
        var system = bench.Read();
        Named(system, "Card Counter").Starts.ShouldNotContain(s => s.Name == "Stray");
        Named(system, "Saltmarsh Tide Folder").Starts.ShouldContain(s => s.Name == "Mine" && s.Kind == StartKind.RunOnce);
    }

    [Fact]
    public void Files_that_cannot_be_read_are_told_and_stop_nothing()
    {
        var bench = NewBench(withPrograms: true);
        string startUp = Path.Combine(bench.Root, "ProgramData/Microsoft/Windows/Start Menu/Programs/StartUp");
        File.WriteAllText(Path.Combine(startUp, "Spoilt.lnk"), "no shortcut");
        File.WriteAllText(Path.Combine(startUp, "readme.txt"), "no shortcut");
        File.WriteAllText(Path.Combine(bench.Root, "Windows/System32/Tasks/Spoilt"), "<Task");
        File.CreateSymbolicLink(Path.Combine(bench.Root, "Windows/System32/Tasks/Link"), "/etc/passwd");
        File.WriteAllText(Path.Combine(bench.Root, "Users/Default/NTUSER.DAT"), "no hive");
        var system = bench.Read();
        system.Notes.Where(n => n.Code == "startUnreadable").Select(n => n.Text[..n.Text.IndexOf(" cannot", StringComparison.Ordinal)]).ShouldBe(
            [@"ProgramData\Microsoft\Windows\Start Menu\Programs\StartUp\Spoilt.lnk", @"Windows\System32\Tasks\Spoilt"], ignoreOrder: true);
        system.Notes.ShouldContain(n => n.Code == "hiveUnreadable" && n.Text.Contains("for new accounts", StringComparison.Ordinal));
        Named(system, "Saltmarsh Tide Folder").Newcomers.ShouldBeFalse();
    }

    [Fact]
    public void Conditions_choose_programs_too()
    {
        var system = Bench.Demonstration;
        IEnumerable<string> Fitting(PackageConditions conditions) => DesktopProgramGroup.Of(system).Where(conditions.Fits).Select(g => g.Name);
        Fitting(PackageConditions.None).Count().ShouldBe(7);
        Fitting(new() { Names = ["card counter", "*Plotter"] }).ShouldBe(["Card Counter", "Gannet Chart Plotter"]);
        Fitting(new() { Publishers = ["Larkfield*"] }).ShouldBe(["Larkfield Label Maker"]);
        Fitting(new() { Find = ["games", "tide"] }).ShouldBe(["Card Counter", "Saltmarsh Tide Folder"]);
        Fitting(new() { LargerThan = 12600 << 10 }).ShouldBe(["Gannet Chart Plotter", "Saltmarsh Tide Folder"]);
        Fitting(new() { SmallerThan = 310 << 10 }).ShouldBe(["Pennywhistle Post"]);
        Fitting(new() { StartsWithWindows = false }).ShouldBe(["Larkfield Label Maker", "Pennywhistle Post", "Saltmarsh Log Editor"]);
        Fitting(new() { Origins = [PackageOrigin.Added] }).ShouldBeEmpty();
        Fitting(new() { Roles = [PackageRole.Application] }).ShouldBeEmpty();
        Fitting(new() { RunsInBackground = false }).ShouldBeEmpty();
    }

    [Fact]
    public void What_is_installed_stays_and_says_why()
    {
        var bench = NewBench(withPrograms: true);
        var system = bench.Read();
        PlannedProgram Planned(string name, string who, bool allowReturn = false) => RemovalPlanner.Plan(system,
            new RemovalRequest([], AudienceParser.Parse([who], system), AllowReturn: allowReturn) { Programs = [Named(system, name)] })
            .Programs.Single();
        var machines = Planned("Saltmarsh Ticket Printer", "everyone");
        machines.HasEffect.ShouldBeFalse();
        machines.StaysBecause.ShouldBe("it is the machine's, and only its own uninstaller on the running system removes it.");
        var theirs = Planned("Saltmarsh Tide Folder", "everyone");
        (theirs.Entries.Length, theirs.Blocks.Length).ShouldBe((1, 1));
        theirs.StaysBecause.ShouldBe("ivy and rowan have it, and only its own uninstaller on the running system removes it.");
        Planned("Saltmarsh Tide Folder", "counter").ShouldSatisfyAllConditions(p => p.HasEffect.ShouldBeFalse(), p => p.StaysBecause.ShouldBeNull());
        Planned("Saltmarsh Tide Folder", "rowan").StaysBecause.ShouldStartWith("rowan has it, ");
        var newcomers = Planned("Saltmarsh Tide Folder", "newcomers");
        (newcomers.Entries.Length, newcomers.StaysBecause).ShouldBe((1, null));
        Planned("Saltmarsh Tide Folder", "newcomers", allowReturn: true).Blocks.ShouldBeEmpty();
        var plan = RemovalPlanner.Plan(system, new RemovalRequest([], AudienceParser.Parse(["everyone"], system))
        {
            Programs = [Named(system, "Saltmarsh Ticket Printer"), Named(system, "Saltmarsh Tide Folder")],
        });
        plan.IsRefusedInPart.ShouldBeTrue();
        plan.Intents(system).ShouldBe([new Intent(IntentKind.Remove, null, "Saltmarsh Tide Folder", [], Newcomers: true)]);
    }

    [Fact]
    public void A_block_holds_when_an_update_writes_the_entry_again()
    {
        var bench = NewBench(withPrograms: true);
        string hive = Path.Combine(bench.Root, "Users/Default/NTUSER.DAT"), startUp = Path.Combine(bench.Root,
            "Users/Default/AppData/Roaming/Microsoft/Windows/Start Menu/Programs/Startup");
        Directory.CreateDirectory(startUp);
        File.Copy(Path.Combine(bench.Root, "ProgramData/Microsoft/Windows/Start Menu/Programs/StartUp/Chart Plotter.lnk"),
            Path.Combine(startUp, "Plotter.lnk"));
        // Its shortcut is nobody's now.
        HiveEdit.Change(bench.Software, h => h.Find($@"{View32}\{Uninstall}\GannetPlotter")!.Value.Delete());
        HiveEdit.Change(hive, h => Run(h, $@"Software\{Version}\RunOnce", ("Once", @"C:\Tools\OnceSetup.exe")));
        var before = bench.Read();
        ImmutableArray<DesktopProgramGroup> coming = [.. DesktopProgramGroup.Of(before).Where(p => p.Newcomers)];
        coming.Select(p => p.Name).ShouldBe(["Once", "Pennywhistle Post", "Plotter", "Saltmarsh Tide Folder"]);
        bench.Run(RemovalPlanner.Plan(before, ForNewcomers(coming)), new Storage.WriteInterceptor()).Failures.ShouldBeEmpty();
        File.Exists(Path.Combine(startUp, "Plotter.lnk")).ShouldBeFalse();
        var after = bench.Read();
        DesktopProgramGroup.Of(after).ShouldNotContain(p => p.Installers.Any());
        after.StartBlocks.Select(b => $"{b.Kind} {b.Name}").ShouldBe(["Run TideFolderSetup", "Shortcut Plotter",
            $"ActiveSetup {((KeyLocation)Named(before, "Pennywhistle Post").Installers.Single().Location!).Name}"]);

        // An update writes them all again.
        File.Copy(Path.Combine(bench.Root, "ProgramData/Microsoft/Windows/Start Menu/Programs/StartUp/Chart Plotter.lnk"),
            Path.Combine(startUp, "Plotter.lnk"));
        HiveEdit.Change(hive, h =>
        {
            Run(h, $@"Software\{Version}\Run", ("TideFolderSetup", @"C:\Windows\System32\TideFolderSetup.exe /again"));
            Run(h, $@"Software\{Version}\RunOnce", ("Once", @"C:\Tools\OnceSetup.exe"));
        });
        HiveEdit.Change(bench.Software, h => Run(h, ((KeyLocation)Named(before, "Pennywhistle Post").Installers.Single().Location!).Key,
            ("StubPath", @"C:\ProgramData\Pennywhistle\PostSetup.exe"), ("", "Pennywhistle Post"), ("Version", "2,0,0,0")));
        var updated = bench.Read();
        DesktopProgramGroup.Of(updated).Where(p => p.IsBlocked).Select(p => p.Name)
            .ShouldBe(["Pennywhistle Post", "Plotter", "Saltmarsh Tide Folder"]);
        DesktopProgramGroup.Of(updated).Single(p => p.Newcomers).Name.ShouldBe("Once"); // Windows knows no block for those
        updated.StartBlocks.ShouldContain(b => b.Name == "Pennywhistle Post");
        new Assessment.Forecaster(updated, [], _ => false).SignIn().Programs.Select(p => (p.Name, p.IsBlocked)).ShouldBe(
            [("Once", false), ("Pennywhistle Post", true), ("Plotter", true), ("Saltmarsh Tide Folder", true)]);
        new Assessment.Forecaster(updated, [], _ => false).Update(updated).Programs.ShouldBeEmpty();
    }

    [Theory]
    [InlineData("", "Pennywhistle Post, Saltmarsh Tide Folder")]
    [InlineData("Saltmarsh Tide Folder", "Pennywhistle Post")]
    [InlineData("*", "")]
    public void A_played_first_sign_in_brings_what_was_forecast(string blocked, string brought)
    {
        var bench = NewBench(withPrograms: true);
        var before = bench.Read();
        var plan = RemovalPlanner.Plan(before, ForNewcomers(DesktopProgramGroup.Of(before)
            .Where(p => blocked.Length > 0 && NamePattern.Matches(blocked, p.Name) && p.Installers.Any())));
        if (blocked.Length > 0)
            bench.Run(plan, new Storage.WriteInterceptor());
        // An update writes both again.
        HiveEdit.Change(Path.Combine(bench.Root, "Users/Default/NTUSER.DAT"), h =>
            Run(h, $@"Software\{Version}\Run", ("TideFolderSetup", @"C:\Windows\System32\TideFolderSetup.exe /firstsignin")));
        HiveEdit.Change(bench.Software, h => Run(h, ((KeyLocation)Named(before, "Pennywhistle Post").Installers.Single().Location!).Key,
            ("StubPath", @"C:\ProgramData\Pennywhistle\PostSetup.exe"), ("", "Pennywhistle Post"), ("Version", "2,0,0,0")));
        var forecast = new Assessment.Forecaster(bench.Read(), [], _ => false).SignIn();
        string.Join(", ", forecast.Programs.Where(p => !p.IsBlocked).Select(p => p.Name)).ShouldBe(brought);
        new StandIn.WindowsSimulator(Demo.World).SignIn(bench.Root, "hazel");
        var after = bench.Read();
        string hazel = after.Accounts.Single(a => a.Name == "hazel").Sid;
        string.Join(", ", DesktopProgramGroup.Of(after).Where(p => p.Sids.Contains(hazel)).Select(p => p.Name)).ShouldBe(brought);
    }

    private Brief Written(string rules) => new BriefLoader(a => throw new InvalidOperationException($"fetches {a}")).Load(
        _folder.Write("desktop.brief.yaml", System.Text.Encoding.UTF8.GetBytes($"brief: 1\nfor: everyone\n{rules}")));

    [Fact]
    public void Rules_of_briefs_mean_desktop_programs_by_their_kind()
    {
        var system = Bench.Demonstration;
        var brief = Written("remove:\n  - kind: desktop\n    publisher: [Saltmarsh*, Gannet*]\n  - kind: desktop\n    package: Pennywhistle Post\n"
            + "    starts-with-windows: false\n  - kind: app\n    package: Northlight.Weather\nkeep:\n  - kind: desktop\n    find: plotter\n");
        var choice = BriefSelection.Of(brief, system);
        choice.Programs.Select(p => p.Name)
            .ShouldBe(["Saltmarsh Log Editor", "Saltmarsh Ticket Printer", "Saltmarsh Tide Folder", "Pennywhistle Post"]);
        choice.ByRule.Select(r => (r.Packages.Length, r.Programs.Length)).ShouldBe([(0, 4), (0, 1), (1, 0), (0, 1)]);
        choice.ByRule.ShouldAllBe(r => !r.IsIdle);
        brief.Remove[0].Conditions.Describe().ShouldStartWith("desktop program, publisher ");
        var request = BriefPlanner.ToRequest(brief, system, []);
        request.Packages.ShouldHaveSingleItem();
        var differences = BriefPlanner.Differences(RemovalPlanner.Plan(system, request), system, n => n == "Pennywhistle Post", _ => false)
            .Where(d => d.Family != Demo.Family("Northlight.Weather")).ToList();
        differences.Select(d => $"{d.Code} {d.DisplayName}").ShouldBe(["refused Saltmarsh Log Editor", "refused Saltmarsh Ticket Printer",
            "isNew Saltmarsh Tide Folder", "refused Saltmarsh Tide Folder", "cameBack Pennywhistle Post"]);
        differences[3].Text.ShouldBe("stays: ivy and rowan have it, and only its own uninstaller on the running system removes it.");
        var plan = RemovalPlanner.Plan(system, BriefPlanner.ToRequest(brief, system, ["newcomers"]));
        var newcomers = BriefPlanner.Differences(plan, system, _ => false, n => n == "Pennywhistle Post");
        newcomers.ShouldContain(d => d.Code == "stillThere" && d.DisplayName == "Pennywhistle Post");
        newcomers.ShouldNotContain(d => d.Code == "refused" && d.DisplayName == "Saltmarsh Tide Folder");
    }

    [Fact]
    public void Names_of_desktop_programs_that_fit_nothing_are_told_and_may_be_mistyped()
    {
        var system = Bench.Demonstration;
        var brief = Written("remove:\n  - kind: desktop\n    package: [Pennywhistle Pots, Nothing at all, Gone Before, 'Saltmarsh*']\n");
        var unmatched = UnmatchedRule.Find(brief, [system], ["gone before"]);
        unmatched.Select(u => (u.What, u.SeemsMistyped)).ShouldBe([("Pennywhistle Pots", true), ("Nothing at all", false)]);
        unmatched[0].Describe().ShouldEndWith("no desktop program matches 'Pennywhistle Pots'. Near misses: Pennywhistle Post.");
    }

    [Theory]
    [InlineData("remove:\n  - kind: desktop\n", "a rule without a condition would take everything; conditions are package,")]
    [InlineData("remove:\n  - kind: desktop\n    because: x\n", "a rule without a condition")]
    [InlineData("remove:\n  - kind: both\n    find: x\n", "'both' is not one of app, desktop")]
    [InlineData("remove:\n  - kind: desktop\n    origin: added\n", "desktop programs have no origin")]
    [InlineData("remove:\n  - kind: desktop\n    find: a\n    standing: free\n", "desktop programs have no standing")]
    [InlineData("remove:\n  - kind: desktop\n    find: a\n    role: addon\n", "desktop programs have no role")]
    [InlineData("remove:\n  - kind: desktop\n    find: a\n    runs-in-background: true\n", "desktop programs have no runs-in-background")]
    public void Rules_for_desktop_programs_have_no_conditions_of_packages(string rules, string error) =>
        Should.Throw<MoorfieldException>(() => Written(rules)).Message.ShouldContain(error);

    [Fact]
    public void A_plan_that_was_not_carried_out_is_noticed()
    {
        var system = Bench.Demonstration;
        var plan = RemovalPlanner.Plan(system, ForNewcomers(Named(system, "Pennywhistle Post")));
        var expected = new RemovalExpectation(system, plan);
        expected.Check(system, _ => false).ShouldHaveSingleItem().Family.ShouldBe("Pennywhistle Post");
        expected.Check(system, f => f == "Pennywhistle Post").ShouldBeEmpty();
        var without = system with { DesktopPrograms = system.DesktopPrograms.RemoveAll(p => p.Name == "Pennywhistle Post") };
        expected.Check(without, _ => false).ShouldHaveSingleItem();
        expected.Check(without with { StartBlocks = plan.Programs.Single().Blocks }, _ => false).ShouldBeEmpty();
        var blocks = new BlocksExpectation(system, [], Blocked: true) { Starts = plan.Programs.Single().Blocks };
        blocks.Check(system, _ => false).ShouldHaveSingleItem();
        blocks.Check(system with { StartBlocks = plan.Programs.Single().Blocks }, _ => false).ShouldBeEmpty();
        (blocks with { Blocked = false }).Check(system with { StartBlocks = plan.Programs.Single().Blocks }, _ => false).ShouldHaveSingleItem();
    }

    [Fact]
    public void A_shortcut_that_an_account_switched_off_is_told_as_off()
    {
        var bench = NewBench(withPrograms: true);
        void Set(string hive, string key, string name) => HiveEdit.Change(hive, h => h.Create($@"{key}\Explorer\StartupApproved\StartupFolder")
            .Set(new HiveValue(name, HiveValueType.Binary, new byte[] { 3, 0, 0, 0 })));
        Set(Path.Combine(bench.Root, "Users/rowan/NTUSER.DAT"), $@"Software\{Version}", "card counter.lnk");
        Set(bench.Software, Version, "Other.lnk");
        var system = bench.Read();
        Named(system, "Card Counter").Starts.Single().IsOff.ShouldBeTrue();
        Named(system, "Gannet Chart Plotter").Starts.First().IsOff.ShouldBeFalse();
        Set(bench.Software, Version, "Chart Plotter.lnk");
        Named(bench.Read(), "Gannet Chart Plotter").Starts.First().IsOff.ShouldBeTrue();
    }

    [Fact]
    public void A_shortcut_of_the_demo_is_one_by_a_referee()
    {
        var bench = NewBench(withPrograms: true);
        string told = Tool.Read("lnkinfo", Path.Combine(bench.Root, "ProgramData/Microsoft/Windows/Start Menu/Programs/StartUp/Chart Plotter.lnk"));
        told.ShouldContain(@"C:\Program Files (x86)\Gannet\GannetPlotter.exe");
        told.ShouldContain("/tray");
    }

    [Theory]
    [InlineData(@"""C:\Program Files\A b\c.exe"" /x ""y z""", @"Program Files\A b\c.exe")]
    [InlineData(@"C:\Program Files\A b\c.exe /x", @"Program Files\A b\c.exe")]
    [InlineData(@"C:\A b\c.exe", @"A b\c.exe")]
    [InlineData(@"C:\Tools\run c.exe", @"Tools\run c.exe")]
    [InlineData(@"C:\Tools\run /c", @"Tools\run")]
    [InlineData(@"%ProgramFiles(x86)%\A\c.exe", @"Program Files (x86)\A\c.exe")]
    [InlineData(@"%programfiles%\A\c.exe", @"Program Files\A\c.exe")]
    [InlineData(@"%SystemRoot%\System32\a.exe -k", @"Windows\System32\a.exe")]
    [InlineData(@"\SystemRoot\System32\drivers\a.sys", @"Windows\System32\drivers\a.sys")]
    [InlineData(@"\??\C:\Tools\a.sys", @"Tools\a.sys")]
    [InlineData(@"%LocalAppData%\A\c.exe", @"Users\ivy\AppData\Local\A\c.exe")]
    [InlineData(@"%appdata%\A\c.exe", @"Users\ivy\AppData\Roaming\A\c.exe")]
    [InlineData(@"%UserProfile%\c.exe", @"Users\ivy\c.exe")]
    [InlineData("C:/Tools/a.exe /x", @"Tools\a.exe")]
    [InlineData("MsiExec.exe /X{4B1C0D2E-0000-4000-8000-0000000000A7}", null)]
    [InlineData("rundll32.exe C:\\A\\b.dll,Entry", null)]
    [InlineData(@"D:\Tools\a.exe", null)]
    [InlineData(@"\\host\share\a.exe", null)]
    [InlineData(@"C:\..\..\etc\passwd", null)]
    [InlineData(@"C:\a.exe", null)]
    [InlineData(@"%Nothing%\Tools\a.exe", null)]
    [InlineData("\"", null)]
    [InlineData("", null)]
    public void A_command_tells_which_file_it_starts(string command, string? file) =>
        CommandLine.Program(command, WindowsPath.Of(@"Users\ivy"))?.ToString().ShouldBe(file);

    [Fact]
    public void Without_an_account_its_variables_mean_nothing() => CommandLine.Program(@"%LocalAppData%\A\c.exe", null).ShouldBeNull();

    private static void Program(Hive hive, string name, params (string Name, string Text)[] values)
    {
        var key = hive.Create($@"{Uninstall}\{name}");
        foreach (var (value, text) in values.Prepend(("DisplayName", name)))
            key.Set(HiveValue.FromString(value, text));
    }

    private static void Run(Hive hive, string key, params (string Name, string Command)[] values)
    {
        foreach (var (name, command) in values)
            hive.Create(key).Set(HiveValue.FromString(name, command));
    }

    private static void Service(Hive hive, string name, string path, uint type, uint start)
    {
        var key = hive.Create($@"ControlSet001\Services\{name}");
        key.Set(HiveValue.FromString("ImagePath", path));
        key.Set(HiveValue.FromDWord("Type", type));
        key.Set(HiveValue.FromDWord("Start", start));
    }

    public void Dispose() => _folder.Dispose();
}
