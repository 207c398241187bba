using Moorfield.Core.Fleets;

namespace Moorfield.Cli.Commands;

/// <summary><c>fleet</c> keeps what surveys say of many machines, from week to week.</summary>
internal static class FleetCommand
{
    private const int MaxErrors = 20, MaxDays = 36_500;
    private static readonly TimeSpan TellAfter = TimeSpan.FromSeconds(2);

    internal static Command Create() => new("fleet", """
        Keeps what surveys say of many machines, from week to week: in a store, which is one file, or on a PostgreSQL server that several
        administrators share.

        Example:
          moorfield fleet add counters.fleet surveys
          moorfield fleet add postgresql://db/fleets surveys
        """) 
    {
        CreateAdd(), CreateForget(), CreateCopy(),
    };

    private static Argument<string> Store() => new("STORE") { Description = "A fleet store: a file, or postgresql://USER@HOST/DATABASE" };

    private static Command CreateAdd()
    {
        var store = Store();
        var paths = new Argument<string[]>("TARGET")
        {
            Description = "Surveys, saved inventories, folders with them, or any other target", Arity = ArgumentArity.ZeroOrMore,
        };
        var from = new Option<string[]>("--from")
        {
            Description = "A disk or an image whose packages have the names and descriptions that surveys lack (repeatable)", HelpName = "SOURCE",
        };
        var maker = Common.Maker();
        var format = Common.Format();
        var command = new Command("add", """
            Reads surveys, saved inventories and other targets into a store, which is made if it is not there. What was added before is not read
            again. Of each machine the newest document counts, and what it had before is kept: 'compare STORE --since DAY' shows what changed.
            Surveys do not see all names and descriptions of packages: --from takes them from where the packages are.

            Example:
              moorfield fleet add counters.fleet surveys
              moorfield fleet add counters.fleet /srv/surveys/survey-COUNTER-03.json /mnt/counter-07
              moorfield fleet add counters.fleet --from counter-install.wim
            """)
        { store, paths, from, maker, format };
        command.Handle(call =>
        {
            string path = call.GetRequiredValue(store);
            string[] targets = call.GetRequiredValue(paths), sources = call.GetValue(from) ?? [];
            if (targets.Length + sources.Length == 0)
                throw new MoorfieldException(ErrorKind.InvalidUsage, "Name what to add: surveys, folders with them, or other targets.");
            using var open = FleetStore.OpenOrCreate(path);
            var watch = Stopwatch.StartNew();
            var stop = call.BeginChanging();
            int named = 0;
            foreach (string source in sources)
            {
                using var target = Core.Targets.Target.Open(source, new WriteInterceptor(), call.OpenOptions);
                named += open.AddNames(PackageNames.Of(target.Read(target.SelectEditions([]))));
            }
            var addition = FleetAdding.Add(open, targets, call.OpenOptions with { Maker = call.GetValue(maker) }, (done, all) =>
            {
                if (watch.Elapsed > TellAfter && done < all)
                    call.Console.Notice($"{done} of {all} read");
            }, stop);
            var added = addition.Added;
            foreach (var failure in addition.Failures.Take(MaxErrors))
                call.Console.Error(failure.Message);
            if (addition.Failures.Length > MaxErrors)
                call.Console.Error($"{addition.Failures.Length - MaxErrors} more could not be read.");
            call.Write(format, new Report(
                () => new FleetAdditionJson("moorfield.fleet-addition/1", open.FullPath, added.New, added.Changed, added.Same, added.Late,
                    addition.Known, named, [.. addition.Failures.Select(f => new FleetFailureJson(f.File, f.Message))]),
                page => page.Line(targets.Length == 0 ? $"{open.Name}: names for {TextTable.Count(named, "family", "families")}."
                    : $"{open.Name}: {TextTable.Count(added.New, "new machine")}, {added.Changed} with other packages than before, "
                    + $"{added.Same} with the same{(added.Late == 0 ? "" : $", {TextTable.Count(added.Late, "older document")} for the past")}"
                    + $"{(addition.Known == 0 ? "" : $"; {addition.Known} known already")}"
                    + $"{(named == 0 ? "" : $"; names for {TextTable.Count(named, "family", "families")}")}"
                    + $"{(addition.Failures.IsEmpty ? "" : $"; {addition.Failures.Length} not read")}.")));
            return stop.IsCancellationRequested ? ExitCode.Stopped : addition.Failures.IsEmpty ? ExitCode.Done : ExitCode.DoneInPart;
        });
        return command;
    }

    private static Command CreateForget()
    {
        var store = Store();
        var machines = new Option<string[]>("--machine") { Description = "Machines by name; * allowed (repeatable)", HelpName = "NAME" };
        var notSeen = new Option<int?>("--not-seen") { Description = "Machines whose newest document is older than this", HelpName = "DAYS" };
        var past = new Option<int?>("--past") { Description = "States that ended longer ago than this; machines stay", HelpName = "DAYS" };
        var yes = new Option<bool>("--yes", "-y") { Description = "Do not ask for confirmation" };
        var format = Common.Format();
        var command = new Command("forget", """
            Forgets machines of a store, or what machines had long ago. Documents that were added before are not taken in again.

            Example:
              moorfield fleet forget counters.fleet --machine COUNTER-03
              moorfield fleet forget counters.fleet --not-seen 180
              moorfield fleet forget counters.fleet --past 400
            """)
        { store, machines, notSeen, past, yes, format };
        command.Handle(call =>
        {
            string path = call.GetRequiredValue(store);
            string[] names = call.GetValue(machines) ?? [];
            int? seen = Days(call, notSeen), ended = Days(call, past);
            if (names.Length == 0 && seen is null && ended is null)
                throw new MoorfieldException(ErrorKind.InvalidUsage, "Say what to forget: --machine NAME, --not-seen DAYS, or --past DAYS.");
            if (FleetStore.TryOpen(path) is not { } readable)
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"{path} is not a fleet store.");
            readable.Dispose();
            if (!call.GetValue(yes) && !call.Console.Confirm("Forget this? It cannot be undone."))
            {
                call.Console.Notice("Nothing was changed.");
                return ExitCode.Done;
            }
            using var open = FleetStore.OpenOrCreate(path);
            ImmutableArray<string> gone = [.. names.SelectMany(n => open.ForgetMachines(n)),
                .. seen is { } days ? open.ForgetMachines(open.Now.AddDays(-days)) : []];
            int states = ended is { } old ? open.ForgetStates(open.Now.AddDays(-old)) : 0;
            call.Write(format, new Report(
                () => new FleetForgottenJson("moorfield.fleet-forgotten/1", open.FullPath, gone, states),
                page => page.Line($"{open.Name}: {TextTable.Count(gone.Length, "machine")} and {TextTable.Count(states, "past state")} forgotten"
                    + $"{(gone.IsEmpty ? "" : $": {TextFormat.List(gone)}")}.")));
            return ExitCode.Done;
        });
        return command;
    }

    private static Command CreateCopy()
    {
        var from = Store();
        var to = new Argument<string>("NEW-STORE") { Description = "A store that is not there yet: a file, or an address" };
        var format = Common.Format();
        var command = new Command("copy", """
            Copies a store whole, with all that is known of the past: from a file to a server, from a server to a file, or to another place. What is
            added meanwhile is not in the copy.

            Example:
              moorfield fleet copy counters.fleet postgresql://db/fleets
            """)
        { from, to, format };
        command.Handle(call =>
        {
            string source = call.GetRequiredValue(from), destination = call.GetRequiredValue(to);
            using var store = FleetStore.TryOpen(source)
                ?? throw new MoorfieldException(ErrorKind.InvalidUsage, $"{source} is not a fleet store.");
            using var copy = FleetStore.OpenOrCreate(destination);
            call.BeginChanging();
            var watch = Stopwatch.StartNew();
            var last = TellAfter;
            int machines = store.CopyTo(copy, rows =>
            {
                if (watch.Elapsed < last)
                    return;
                last = watch.Elapsed + TellAfter;
                call.Console.Notice($"{TextTable.Count(rows, "row")} copied");
            });
            call.Write(format, new Report(
                () => new FleetCopiedJson("moorfield.fleet-copied/1", store.FullPath, copy.FullPath, machines),
                page => page.Line($"{copy.Name}: {TextTable.Count(machines, "machine")} and all that {store.Name} knows of them.")));
            return ExitCode.Done;
        });
        return command;
    }

    private static int? Days(Invocation call, Option<int?> option) => call.GetValue(option) switch
    {
        null or (>= 0 and <= MaxDays) => call.GetValue(option),
        _ => throw new MoorfieldException(ErrorKind.InvalidUsage, $"{option.Name} takes 0 to {MaxDays} days."),
    };
}
