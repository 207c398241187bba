using System.Diagnostics;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>Work that hosts share, on a real PostgreSQL server: each job is done once, whoever is killed.</summary>
public sealed class BatchTests : CliTest
{
    private readonly string _address;
    private readonly string _brief;

    public BatchTests()
    {
        _address = TestServer.Shared.Address($"batch {Folder.Path}");
        _brief = Folder.Write("few.brief.yaml", "brief: 1\ntitle: Few\nfor: everyone\nremove: [Northlight.Weather]\nguard: [offered-apps]\n"u8);
    }

    private string Schema => TestServer.Schema($"batch {Folder.Path}");

    private string[] Targets(int count) => [.. Enumerable.Range(1, count).Select(i => Demo.CopyFewTo(Folder, $"pc{i}"))];

    private void Add(params string[] targets)
    {
        var added = Run(["batch", "add", _address, "--brief", _brief, "--accept-costs", .. targets]);
        added.ExitCode.ShouldBe(0, added.Error);
    }

    private JsonElement[] Jobs(int batch = 1) =>
        [.. Json(Run("batch", "list", _address, $"{batch}", "--format", "json")).GetProperty("jobs").EnumerateArray()];

    private static string State(JsonElement job) => job.GetProperty("state").GetString()!;

    private string[] Points => [.. Json(Run("restore-point", "list", "--format", "json")).GetProperty("restorePoints").EnumerateArray()
        .Select(p => p.GetProperty("state").GetString()!)];

    private Process Worker(params string[] more) => Begin([ProgramPath, "batch", "run", _address, "--lease", "4", .. more]);

    private Process Start(params string[] words)
    {
        var start = new ProcessStartInfo(words[0], words[1..])
        {
            UseShellExecute = false, RedirectStandardOutput = true, RedirectStandardError = true,
        };
        foreach (var (name, value) in Surroundings)
            start.Environment[name] = value;
        return Process.Start(start)!;
    }

    /// <summary>Starts a program whose output nobody reads.</summary>
    private Process Begin(params string[] words)
    {
        var process = Start(words);
        process.OutputDataReceived += (_, _) => { };
        process.ErrorDataReceived += (_, _) => { };
        process.BeginOutputReadLine();
        process.BeginErrorReadLine();
        return process;
    }

    [Fact]
    public void Jobs_are_done_and_what_came_of_them_is_kept()
    {
        string[] targets = Targets(3);
        Add(targets);
        var outcome = Run("batch", "run", _address, "--jobs", "2");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        outcome.Output.ShouldContain("3 jobs: 3 done, 0 not done in full.");
        Run(["check", .. targets, "--brief", _brief]).ExitCode.ShouldBe(0);
        var jobs = Jobs();
        jobs.Select(j => j.GetProperty("target").GetString()).ShouldBe(targets);
        jobs.ShouldAllBe(j => State(j) == "done" && j.GetProperty("tries").GetInt32() == 1 && j.GetProperty("exitCode").GetInt32() == 0);
        jobs.Select(j => j.GetProperty("restorePoint").GetInt32()).Order().ShouldBe([1, 2, 3]);
        jobs[0].GetProperty("result").GetProperty("results")[0].GetProperty("schema").GetString().ShouldBe("moorfield.result/1");
        // Again: nothing is changed, and no point is recorded.
        Add(targets);
        Run("batch", "run", _address, "2").Output.ShouldContain("is as the brief 'Few' wants it. Nothing was changed.");
        Points.ShouldBe(["inEffect", "inEffect", "inEffect"]);
        var list = Json(Run("batch", "list", _address, "--format", "json")).GetProperty("batches");
        list.GetArrayLength().ShouldBe(2);
        list[1].GetProperty("done").GetInt32().ShouldBe(3);
        list[1].GetProperty("brief").GetString().ShouldBe(_brief);
        Run("batch", "list", _address, "--format", "csv").Output.Split('\n')[2].ShouldContain($"2,");
    }

    [Fact]
    public void A_brief_that_changed_is_not_followed_and_what_failed_is_tried_again()
    {
        string[] targets = Targets(2);
        string before = VolumeState.Files(targets[0]);
        byte[] brief = File.ReadAllBytes(_brief);
        Add(targets);
        File.AppendAllText(_brief, "keep: [Northlight.Weather]\n");
        var outcome = Run("batch", "run", _address);
        outcome.ExitCode.ShouldBe(3);
        outcome.Output.ShouldContain("has changed since the batch was added");
        Jobs().ShouldAllBe(j => State(j) == "failed");
        VolumeState.Files(targets[0]).ShouldBe(before);
        File.WriteAllBytes(_brief, brief);
        Run("batch", "run", _address).Output.ShouldContain("0 jobs: 0 done");
        Run("batch", "retry", _address, "1", targets[1]).Output.ShouldContain("1 job ready again");
        Run("batch", "run", _address).ExitCode.ShouldBe(0);
        Jobs().Select(State).ShouldBe(["failed", "done"]);
        // A target that is gone fails alone.
        Directory.Move(targets[0], targets[0] + "-gone");
        Run("batch", "retry", _address, "1").Output.ShouldContain("1 job ready again");
        Run("batch", "run", _address).ExitCode.ShouldBe(3);
        Jobs()[0].GetProperty("said").GetString()!.ShouldContain("does not exist");
    }

    [Fact]
    public void Two_workers_of_which_one_is_killed_again_and_again_do_each_job_once()
    {
        string[] targets = Targets(12);
        Add(targets);
        var chance = new Random(Random.Shared.Next());
        int kills = 0;
        using (var steady = Worker("--jobs", "1"))
        {
            while (Jobs().Any(j => State(j) is not "done"))
            {
                using var doomed = Worker("--jobs", "2");
                Thread.Sleep(chance.Next(50, 400));
                // With all that it started, as when the host ends.
                doomed.Kill(entireProcessTree: true);
                doomed.WaitForExit();
                (++kills).ShouldBeLessThan(200);
            }
            steady.WaitForExit(TimeSpan.FromMinutes(2)).ShouldBeTrue();
            steady.ExitCode.ShouldBe(0);
        }
        kills.ShouldBeGreaterThan(0);
        Run(["check", .. targets, "--brief", _brief]).ExitCode.ShouldBe(0);
        Jobs().ShouldAllBe(j => State(j) == "done");
        Points.ShouldAllBe(p => p == "inEffect" || p == "notTaken");
        Points.Count(p => p == "inEffect").ShouldBe(12);
    }

    [Fact]
    public void Whoever_lost_a_job_stops_before_it_writes()
    {
        string target = Targets(1)[0];
        string before = VolumeState.Files(target);
        Add(target);
        // The server says of every renewal that the job is another worker's.
        TestServer.Shared.Sql($$"""
            SET search_path TO {{Schema}};
            UPDATE job SET tries=8;
            CREATE FUNCTION taken() RETURNS trigger LANGUAGE plpgsql AS
                'BEGIN IF NEW.attempt = OLD.attempt THEN RETURN NULL; END IF; RETURN NEW; END';
            CREATE TRIGGER taken BEFORE UPDATE ON job FOR EACH ROW EXECUTE FUNCTION taken();
            """);
        using (var worker = Worker())
        {
            while (TestServer.Shared.Sql($"SELECT max(attempt) FROM {Schema}.job") != "2")
                Thread.Sleep(100);
            worker.WaitForExit(TimeSpan.FromMinutes(1)).ShouldBeTrue();
        }
        VolumeState.Files(target).ShouldBe(before);
        Points.ShouldBeEmpty();
        // Too many workers lost it.
        while (State(Jobs()[0]) == "running")
            Thread.Sleep(100);
        State(Jobs()[0]).ShouldBe("given up");
        TestServer.Shared.Sql($"DROP TRIGGER taken ON {Schema}.job");
        Run("batch", "retry", _address, "1").Output.ShouldContain("1 job ready again");
        Run("batch", "run", _address).ExitCode.ShouldBe(0);
        Run("check", target, "--brief", _brief).ExitCode.ShouldBe(0);
    }

    [Fact]
    public void A_target_that_another_run_has_is_put_off()
    {
        string image = Demo.CopyImageTo(Folder), other = Targets(1)[0];
        Add(image, other);
        using (var busy = Moorfield.Core.Images.ImageFile.Open(image, new Moorfield.Core.Storage.WriteInterceptor()))
        {
            busy.TryLock().ShouldBeTrue();
            using var worker = Worker("--jobs", "1");
            // The next one is done meanwhile.
            while (State(Jobs()[1]) != "done")
                Thread.Sleep(50);
            State(Jobs()[0]).ShouldBeOneOf("ready", "running");
            while (Jobs()[0].GetProperty("tries").GetInt32() < 2)
                Thread.Sleep(50);
            busy.Dispose();
            worker.WaitForExit(TimeSpan.FromMinutes(1)).ShouldBeTrue();
            worker.ExitCode.ShouldBe(0);
        }
        Jobs().ShouldAllBe(j => State(j) == "done");
        Run("check", image, "--brief", _brief).ExitCode.ShouldBe(0);
        Points.ShouldBe(["inEffect", "inEffect"]);
        // One that is never let go fails in the end.
        using var longer = Moorfield.Core.Images.ImageFile.Open(image, new Moorfield.Core.Storage.WriteInterceptor());
        longer.TryLock().ShouldBeTrue();
        Add(image);
        TestServer.Shared.Sql($"UPDATE {Schema}.job SET tries=8 WHERE batch=2");
        var outcome = Run("batch", "run", _address, "2", "--lease", "4");
        outcome.ExitCode.ShouldBe(3);
        outcome.Output.ShouldContain("put off: ");
        outcome.Output.ShouldContain("1 job: 0 done, 1 not done in full.");
        Jobs(2)[0].GetProperty("said").GetString()!.ShouldContain("is being changed by another run");
        State(Jobs(2)[0]).ShouldBe("failed");
    }

    [Fact]
    public void A_server_that_says_nothing_counts_as_lost()
    {
        using var server = new TestServer();
        string address = server.Address("silent");
        string[] targets = Targets(6);
        Run(["batch", "add", address, "--brief", _brief, "--accept-costs", .. targets]).ExitCode.ShouldBe(0);
        string Backends() => server.Sql("SELECT pid FROM pg_stat_activity WHERE application_name='moorfield'");
        void Signal(string signal, string processes) => Tool.Run("kill", [signal, .. processes.Split('\n', StringSplitOptions.RemoveEmptyEntries)]);
        using (var worker = Start(ProgramPath, "batch", "run", address, "--jobs", "1", "--lease", "12"))
        {
            // Its connection is silent; another one is not.
            string stopped;
            while ((stopped = Backends()).Length == 0)
                Thread.Sleep(5);
            Signal("-STOP", stopped);
            worker.StandardOutput.ReadToEnd().ShouldContain("6 jobs: 6 done, 0 not done in full.");
            worker.StandardError.ReadToEnd().ShouldContain("did not answer for 3 s");
            worker.WaitForExit();
            worker.ExitCode.ShouldBe(0);
            Signal("-CONT", stopped);
        }
        Run(["check", .. targets, "--brief", _brief]).ExitCode.ShouldBe(0);
        // It is silent when a run asks whether it may write: the run is stopped, and has changed nothing.
        string target = Demo.CopyFewTo(Folder, "last"), before = VolumeState.Files(target);
        Run("batch", "add", address, "--brief", _brief, "--accept-costs", target).ExitCode.ShouldBe(0);
        server.Sql("""
            SET search_path TO silent;
            UPDATE job SET tries=9 WHERE batch=2;
            CREATE FUNCTION slow() RETURNS trigger LANGUAGE plpgsql AS
                'BEGIN IF NEW.attempt = OLD.attempt THEN PERFORM pg_sleep(60); END IF; RETURN NEW; END';
            CREATE TRIGGER slow BEFORE UPDATE ON job FOR EACH ROW EXECUTE FUNCTION slow();
            """);
        var outcome = Run("batch", "run", address, "2", "--jobs", "1", "--lease", "4");
        outcome.ExitCode.ShouldBe(3, outcome.Error);
        outcome.Error.ShouldContain("did not answer for 1 s");
        outcome.Output.ShouldContain("0 jobs: 0 done, 0 not done in full, 1 lost.");
        VolumeState.Files(target).ShouldBe(before);
    }

    [Theory]
    [InlineData("UPDATE batch SET options='--vault=/elsewhere'", "knows no option --vault=/elsewhere of batches", "")]
    [InlineData("UPDATE batch SET options=E'--accept-costs\n--plain-vault'", "knows no option --plain-vault", "")]
    [InlineData("UPDATE batch SET options=E'--for=a\u001bb'", "knows no option", "")]
    [InlineData("UPDATE job SET target='--preview'", "have to be whole paths", "")]
    [InlineData("UPDATE job SET target=target||E'\u001b[2J'", "have to be whole paths", "")]
    [InlineData("UPDATE batch SET brief='few.brief.yaml'", "have to be whole paths", "")]
    [InlineData("UPDATE batch SET brief='$secret'", "cannot be read as a brief", "berth-seven")]
    public void What_the_server_has_is_checked(string change, string fault, string onlyHere)
    {
        string target = Targets(1)[0];
        string before = VolumeState.Files(target), secret = Folder.Write("secret", "brief: 1\ntitle: x\nberth-seven: 1\n"u8);
        Add(target);
        TestServer.Shared.Sql($"SET search_path TO {Schema}; {change.Replace("$secret", secret, StringComparison.Ordinal)}");
        var outcome = Run("batch", "run", _address);
        outcome.ExitCode.ShouldBe(3, outcome.Error);
        outcome.Output.ShouldContain(fault);
        outcome.Output.ShouldContain(onlyHere);
        outcome.Output.ShouldNotContain("\u001b");
        string said = Jobs()[0].GetProperty("said").GetString()!;
        said.ShouldContain(fault);
        if (onlyHere.Length > 0)
            TestServer.Shared.Sql($"SELECT * FROM {Schema}.job").ShouldNotContain(onlyHere);
        VolumeState.Files(target).ShouldBe(before);
    }

    [Fact]
    public void Clocks_that_differ_by_hours_change_nothing()
    {
        string[] targets = Targets(6);
        Add(targets);
        string[] At(string shift, params string[] words) => ["faketime", "-f", shift, ProgramPath, .. words];
        string[] work = ["batch", "run", _address, "--jobs", "1", "--lease", "4"];
        using (var ahead = Begin(At("+7h", work)))
        using (var behind = Begin(At("-9h", work)))
        {
            while (!Jobs().Any(j => State(j) == "running"))
                Thread.Sleep(5);
            ahead.Kill(entireProcessTree: true);
            using var again = Begin(At("+3d", work));
            behind.WaitForExit(TimeSpan.FromMinutes(2)).ShouldBeTrue();
            behind.ExitCode.ShouldBe(0);
            again.WaitForExit(TimeSpan.FromMinutes(2)).ShouldBeTrue();
            again.ExitCode.ShouldBe(0);
        }
        var jobs = Jobs();
        jobs.ShouldAllBe(j => State(j) == "done" && j.GetProperty("tries").GetInt32() <= 2);
        // The times are the server's, which has this machine's clock.
        jobs.ShouldAllBe(j => (DateTimeOffset.UtcNow - j.GetProperty("ended").GetDateTimeOffset()).Duration() < TimeSpan.FromMinutes(10));
        Run(["check", .. targets, "--brief", _brief]).ExitCode.ShouldBe(0);
        Points.Count(p => p == "inEffect").ShouldBe(6);
    }

    [Fact]
    public void Disks_are_done_virtual_and_encrypted_ones_as_well()
    {
        string plain = Demo.CopyDiskTo(Folder), encrypted = Demo.CopyEncryptedDiskTo(Folder, "counter-08.ntfs"), disk = Folder["counter.qcow2"];
        File.WriteAllBytes(Folder["startup.bek"], Demo.EncryptedDiskKeys.StartupKey);
        Tool.Read("qemu-img", "convert", "-f", "raw", "-O", "qcow2", plain, disk);
        string[] before = [.. new[] { disk, encrypted }.Select(d => Convert.ToHexString(SHA256.HashData(File.ReadAllBytes(d))))];
        Add(disk, encrypted);
        var run = Run("batch", "run", _address);
        run.ExitCode.ShouldBe(3, run.Error);
        Jobs().Select(State).ShouldBe(["done", "failed"], run.Output);
        Run("batch", "retry", _address, "1").ExitCode.ShouldBe(0);
        var keyed = new Dictionary<string, string>(Surroundings) { ["MOORFIELD_BITLOCKER_KEY_FILE"] = Folder["startup.bek"] };
        Tool.Run(ProgramPath, ["batch", "run", _address], keyed, null).ExitCode.ShouldBe(0);
        Jobs().ShouldAllBe(j => State(j) == "done");
        Tool.Run(ProgramPath, ["check", disk, encrypted, "--brief", _brief], keyed, null).ExitCode.ShouldBe(0);
        TestServer.Shared.Sql($"SELECT * FROM {Schema}.job").ShouldNotContain("startup.bek");
        foreach (string done in new[] { disk, encrypted })
            Tool.Run(ProgramPath, ["undo", done, "--yes"], keyed, null).ExitCode.ShouldBe(0);
        Tool.Read("qemu-img", "compare", "-f", "raw", "-F", "qcow2", plain, disk).ShouldContain("identical");
        Convert.ToHexString(SHA256.HashData(File.ReadAllBytes(encrypted))).ShouldBe(before[1]);
    }

    /// <summary>What a run asks its worker, and what it does by the answer.</summary>
    [Theory]
    [InlineData("", 130)]
    [InlineData("yes\n", 130)]
    [InlineData("\u0006\n", 0)]
    public void A_run_that_has_to_ask_changes_nothing_unasked(string answer, int code)
    {
        string target = Targets(1)[0];
        string before = VolumeState.Files(target);
        var surroundings = Surroundings;
        surroundings["MOORFIELD_ASKS"] = "1";
        var outcome = Tool.Run(ProgramPath, ["remove", target, "--brief", _brief, "--yes", "--accept-costs"], surroundings, answer);
        outcome.ExitCode.ShouldBe(code, outcome.Error);
        outcome.Error.Split('\n').Count(l => l == "\u0005").ShouldBe(1);
        (VolumeState.Files(target) == before).ShouldBe(code != 0);
        if (code != 0)
            outcome.Error.ShouldContain("It is not certain that the job still belongs to this worker");
    }

    [Fact]
    public void A_Ctrl_C_lets_the_job_under_way_end_and_takes_no_more()
    {
        Add(Targets(8));
        using var worker = Worker("--jobs", "1");
        while (!Jobs().Any(j => State(j) == "running"))
            Thread.Sleep(5);
        Tool.Read("kill", "-INT", $"{worker.Id}");
        worker.WaitForExit(TimeSpan.FromMinutes(1)).ShouldBeTrue();
        worker.ExitCode.ShouldBe(130);
        var states = Jobs().Select(State).ToList();
        states.ShouldAllBe(s => s == "done" || s == "ready");
        states.ShouldContain("ready");
        states.ShouldContain("done");
    }

    [Fact]
    public void A_server_that_is_gone_for_a_while_is_waited_for()
    {
        using var server = new TestServer();
        string address = server.Address("away");
        string[] targets = Targets(3);
        Run(["batch", "add", address, "--brief", _brief, "--accept-costs", .. targets]).ExitCode.ShouldBe(0);
        using var worker = Start(ProgramPath, "batch", "run", address, "--jobs", "1", "--lease", "60");
        while (server.Sql("SELECT count(*) FROM away.job WHERE state=2") == "0")
            Thread.Sleep(20);
        server.Stop();
        Thread.Sleep(500);
        server.Start();
        worker.StandardOutput.ReadToEnd().ShouldContain("3 jobs: 3 done, 0 not done in full.");
        worker.StandardError.ReadToEnd().ShouldContain("server");
        worker.WaitForExit();
        worker.ExitCode.ShouldBe(0);
        Run(["check", .. targets, "--brief", _brief]).ExitCode.ShouldBe(0);
        // One that does not come again ends the worker, with a sentence.
        server.Stop();
        var outcome = Run("batch", "run", address, "--lease", "4");
        outcome.ExitCode.ShouldBe(1);
        outcome.Error.ShouldContain("cannot be reached");
        server.Start();
    }

    [Fact]
    public void What_cannot_be_is_one_sentence()
    {
        string target = Targets(1)[0];
        Refused(2, "is not on a server", "batch", "list", Forty["pcs.fleet"]);
        Refused(2, "There is no ", "batch", "add", _address, "--brief", _brief, Folder["nothing"]);
        Refused(2, "Name the targets", "batch", "add", _address, "--brief", _brief);
        Refused(2, "There is no fleet store at", "batch", "run", _address);
        Add(target);
        Refused(2, "has no batch 7", "batch", "list", _address, "7");
        Refused(2, "--lease takes 4 to", "batch", "run", _address, "--lease", "0");
        Refused(2, "--jobs takes 1 to", "batch", "run", _address, "--jobs", "0");
        Refused(2, "has no batch 7", "batch", "retry", _address, "7");
        // An older store has no tables for work, and whoever may not make them is told.
        TestServer.Shared.Sql($"SET search_path TO {Schema}; DROP TABLE job, batch; UPDATE store SET version=1");
        Refused(2, "has no tables for work yet", "batch", "list", _address);
        Run("inventory", _address).ExitCode.ShouldBe(0);
        Add(target);
        State(Jobs()[0]).ShouldBe("ready");
    }
}
