using System.Security.Cryptography;
using System.Text;
using Moorfield.Cli.Host;
using Moorfield.Core.Fleets;

namespace Moorfield.Cli.Commands;

/// <summary><c>batch</c> shares work on many disks and images among hosts, through the server of a fleet.</summary>
internal static class BatchCommand
{
    private const int UsualLease = 60, MinLease = 4, MaxLease = 86_400;
    private const string For = "--for=", Edition = "--edition=", Lenient = "--lenient", AcceptCosts = "--accept-costs";

    internal static Command Create() => new("batch", """
        Shares work on many disks and images among hosts: jobs are on the PostgreSQL server of a fleet, and each host that runs 'batch run' takes
        one after the other. All hosts see the targets, the briefs and the vault under the same paths.

        Example:
          moorfield batch add postgresql://db/fleets --brief counters.brief.yaml --targets images --accept-costs
          moorfield batch run postgresql://db/fleets --vault /srv/vault
          moorfield batch list postgresql://db/fleets
        """)
    {
        CreateAdd(), CreateRun(), CreateList(), CreateRetry(),
    };

    private static Argument<string> Store() => new("STORE") { Description = "A fleet on a server: postgresql://USER@HOST/DATABASE" };

    private static Argument<int?> Number() => new("BATCH") { Description = "The number of a batch", Arity = ArgumentArity.ZeroOrOne };

    private static Command CreateAdd()
    {
        var store = Store();
        var targets = new Argument<string[]>("TARGET") { Description = "Disks, volumes and images", Arity = ArgumentArity.ZeroOrMore };
        var list = new Option<string?>("--targets") { Description = "File with targets, one a line, or -", HelpName = "FILE" };
        var brief = new Option<string>("--brief") { Description = "Brief that they are to follow", HelpName = "FILE", Required = true };
        var who = new Option<string[]>("--for") { Description = "For whom, as for 'remove' (repeatable)", HelpName = "WHO" };
        var editions = new Option<string[]>("--edition") { Description = "Editions of images, as for 'remove' (repeatable)", HelpName = "EDITION" };
        var lenient = new Option<bool>(Lenient) { Description = "Go on although a rule of the brief seems to be mistyped" };
        var costs = new Option<bool>(AcceptCosts) { Description = "Accept what the removals cost" };
        var format = Common.Format();
        var command = new Command("add", """
            Adds a job for each target: to be as a brief wants it. The brief is remembered as it is now, with all that it includes: when it changes,
            the jobs are not done, and a new batch is to be added.

            Example:
              moorfield batch add postgresql://db/fleets --brief counters.brief.yaml /srv/images/counter-07.wim
              moorfield batch add postgresql://db/fleets --brief counters.brief.yaml --targets images
            """)
        { store, targets, list, brief, who, editions, lenient, costs, format };
        command.Handle(call =>
        {
            ImmutableArray<string> paths = [.. call.GetRequiredValue(targets)
                .Concat(call.GetValue(list) is { } file ? SeveralTargets.ReadList(file) : []).Select(Path.GetFullPath)
                .Distinct(StringComparer.Ordinal)];
            if (paths.IsEmpty)
                throw new MoorfieldException(ErrorKind.InvalidUsage, "Name the targets, or a file with them (--targets).");
            if (paths.FirstOrDefault(p => !Path.Exists(p)) is { } missing)
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"There is no {missing}. Nothing was added.");
            string place = Path.GetFullPath(call.GetRequiredValue(brief));
            byte[] digest = DigestOf(BriefOptions.Load(call.Console, place, null));
            List<string> options = [.. (call.GetValue(who) ?? []).Select(w => For + w), .. (call.GetValue(editions) ?? []).Select(e => Edition + e)];
            if (call.GetValue(lenient))
                options.Add(Lenient);
            if (call.GetValue(costs))
                options.Add(AcceptCosts);
            if (options.Concat(paths).Append(place).FirstOrDefault(t => t.Any(char.IsControl)) is { } text)
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"{TextFormat.Quoted(text)} holds a control character. Nothing was added.");
            using var queue = WorkQueue.Open(call.GetRequiredValue(store), makes: true);
            call.BeginChanging();
            int number = queue.Add(place, digest, options, paths);
            call.Write(format, new Report(
                () => new BatchAddedJson("moorfield.batch-added/1", queue.Place, number, paths.Length),
                page => page.Line($"Batch {number} of {queue.Name}: {TextTable.Count(paths.Length, "job")}. Hosts that run "
                    + $"{TextFormat.Command(["batch", "run", queue.Place])} do them.")));
            return ExitCode.Done;
        });
        return command;
    }

    /// <summary>True if a batch may give an option to the command that does its jobs.</summary>
    internal static bool IsOption(string option) => option is Lenient or AcceptCosts || (!option.Any(char.IsControl)
        && (option.StartsWith(For, StringComparison.Ordinal) || option.StartsWith(Edition, StringComparison.Ordinal)));

    /// <summary>The digest of a brief with all that it includes.</summary>
    internal static byte[] DigestOf(Brief brief) => SHA256.HashData(Encoding.ASCII.GetBytes(string.Join('\n', brief.Files.Select(f => f.Sha256))));

    private static Command CreateRun()
    {
        var (store, batch) = (Store(), Number());
        var jobs = new Option<int?>("--jobs") { Description = "Targets worked on side by side (default: by processors and memory)", HelpName = "N" };
        var lease = new Option<int>("--lease")
        {
            Description = $"A worker that is not heard of for so long has lost its jobs (default: {UsualLease})", HelpName = "SECONDS",
            DefaultValueFactory = _ => UsualLease,
        };
        var vault = Common.VaultPath();
        var command = new Command("run", """
            Takes jobs, does them and says how they ended, until none is left: on any number of hosts at once. A job whose worker ended without a word
            is taken over, and what it left half done is finished first. Ctrl-C takes no more jobs and lets those under way end; a second one stops
            these where it is safe, and gives them back.

            Example:
              moorfield batch run postgresql://db/fleets --vault /srv/vault
            """)
        { store, batch, jobs, lease, vault };
        command.Handle(call =>
        {
            int? wanted = call.GetValue(jobs) is { } asked ? SeveralTargets.Checked(asked, $"{asked}") : null;
            int seconds = call.GetValue(lease);
            if (seconds is < MinLease or > MaxLease)
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"--lease takes {MinLease} to {MaxLease} seconds.");
            using var worker = new BatchWorker(call.Console, call.GetRequiredValue(store), call.GetValue(batch),
                SeveralTargets.Jobs(call.Console, wanted), TimeSpan.FromSeconds(seconds), Vault.ChoosePath(call.GetValue(vault)));
            call.StopsItself();
            return worker.Run();
        });
        return command;
    }

    private static Command CreateList()
    {
        var (store, batch) = (Store(), Number());
        var format = Common.Format(hasRows: true);
        var command = new Command("list", """
            Lists batches, or the jobs of one: who has them, and how they ended. --format json has what each command said.

            Example:
              moorfield batch list postgresql://db/fleets
              moorfield batch list postgresql://db/fleets 3
            """)
        { store, batch, format };
        command.Handle(call =>
        {
            using var queue = WorkQueue.Open(call.GetRequiredValue(store));
            if (call.GetValue(batch) is { } number)
                call.Write(format, BatchReports.Jobs(queue, number));
            else
                call.Write(format, BatchReports.Batches(queue));
            return ExitCode.Done;
        });
        return command;
    }

    private static Command CreateRetry()
    {
        var store = Store();
        var batch = new Argument<int>("BATCH") { Description = "The number of a batch" };
        var targets = new Argument<string[]>("TARGET") { Description = "These only; all that failed without any", Arity = ArgumentArity.ZeroOrMore };
        var format = Common.Format();
        var command = new Command("retry", """
            Makes jobs ready again that failed, or with which too many workers ended.

            Example:
              moorfield batch retry postgresql://db/fleets 3
              moorfield batch retry postgresql://db/fleets 3 /srv/images/counter-07.wim
            """)
        { store, batch, targets, format };
        command.Handle(call =>
        {
            int number = call.GetRequiredValue(batch);
            using var queue = WorkQueue.Open(call.GetRequiredValue(store));
            BatchReports.Find(queue, number);
            call.BeginChanging();
            int count = queue.Retry(number, [.. call.GetRequiredValue(targets).Select(Path.GetFullPath)]);
            call.Write(format, new Report(
                () => new BatchRetriedJson("moorfield.batch-retried/1", queue.Place, number, count),
                page => page.Line($"Batch {number} of {queue.Name}: {TextTable.Count(count, "job")} ready again.")));
            return ExitCode.Done;
        });
        return command;
    }
}
