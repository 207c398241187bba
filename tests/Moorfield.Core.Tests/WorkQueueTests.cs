using Moorfield.Core.Fleets;
using Moorfield.Core.Model;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Work that hosts share, as the table of a real PostgreSQL server has it.</summary>
public sealed class WorkQueueTests : IDisposable
{
    private static readonly TimeSpan Long = TimeSpan.FromMinutes(10), Short = TimeSpan.FromMilliseconds(100);

    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly WorkQueue _queue;

    public WorkQueueTests() => _queue = WorkQueue.Open(Address, makes: true);

    private string Address => TestServer.Shared.Address(_folder.Path);

    private int Add(params string[] targets) =>
        _queue.Add("/briefs/counters.brief.yaml", new byte[] { 1, 2, 3 }, ["--for=everyone", "--lenient"], targets);

    private Job Claim(TimeSpan? lease = null, int? batch = null) => _queue.Claim(batch, "berth", lease ?? Long).ShouldNotBeNull();

    private Job Of(Job job) => _queue.Jobs(job.Batch).Single(j => j.Number == job.Number);

    [Fact]
    public void Jobs_are_claimed_in_order_and_each_by_one()
    {
        Add("/a", "/b").ShouldBe(1);
        Add("/c").ShouldBe(2);
        using var other = WorkQueue.Open(Address);
        var first = Claim();
        (first.Batch, first.Target, first.State, first.Attempt, first.Tries, first.Worker).ShouldBe((1, "/a", JobState.Running, 1, 1, "berth"));
        (first.IsLate, first.IsGivenUp).ShouldBe((false, false));
        (first.Ended, first.Code, first.Point, first.Said, first.Result).ShouldBe((null, null, null, null, null));
        other.Claim(2, "quay", Long).ShouldNotBeNull().Target.ShouldBe("/c");
        other.Claim(2, "quay", Long).ShouldBeNull();
        other.Claim(null, "quay", Long).ShouldNotBeNull().Target.ShouldBe("/b");
        Of(first).Worker.ShouldBe("berth");
        _queue.Claim(null, "berth", Long).ShouldBeNull();
        var batches = _queue.Batches();
        batches.Select(b => b.Number).ShouldBe([1, 2]);
        (batches[0].Brief, string.Join(' ', batches[0].Options), string.Join(' ', batches[0].Digest))
            .ShouldBe(("/briefs/counters.brief.yaml", "--for=everyone --lenient", "1 2 3"));
        (DateTimeOffset.UtcNow - batches[0].Added).Duration().ShouldBeLessThan(TimeSpan.FromMinutes(5));
        batches[0].Jobs.ShouldBe([KeyValuePair.Create(JobState.Running, 2)]);
        _queue.Place.ShouldBe(Address);
        _queue.Name.ShouldBe(TestServer.Schema(_folder.Path));
    }

    [Fact]
    public void Whoever_is_not_heard_of_has_lost_it_and_is_not_heard_any_more()
    {
        Add("/a");
        var lost = Claim(Short);
        _queue.IsAnyLeft(null).ShouldBeTrue();
        Thread.Sleep(2 * Short);
        Of(lost).IsLate.ShouldBeTrue();
        // Nobody has taken it yet.
        _queue.Renew(lost, Long).ShouldBeTrue();
        _queue.Claim(null, "quay", Long).ShouldBeNull();
        _queue.Renew(lost, Short).ShouldBeTrue();
        Thread.Sleep(2 * Short);
        var now = Claim();
        (now.Number, now.Attempt, now.Tries).ShouldBe((lost.Number, 2, 2));
        _queue.Renew(lost, Long).ShouldBeFalse();
        _queue.Finish(lost, JobState.Failed, 1, null, "failed", "").ShouldBeFalse();
        _queue.GiveBack(lost).ShouldBeFalse();
        _queue.PutOff(lost, Long, "put off").ShouldBeFalse();
        Of(now).ShouldBe(now);
        _queue.Finish(now, JobState.Done, 0, 7, "done", "{}").ShouldBeTrue();
        var done = Of(now);
        (done.State, done.Code, done.Point, done.Said, done.Result).ShouldBe((JobState.Done, 0, 7, "done", "{}"));
        (DateTimeOffset.UtcNow - done.Ended.ShouldNotBeNull()).Duration().ShouldBeLessThan(TimeSpan.FromMinutes(5));
        _queue.Renew(now, Long).ShouldBeFalse();
        _queue.IsAnyLeft(null).ShouldBeFalse();
    }

    [Fact]
    public void What_is_given_back_is_ready_at_once_and_what_is_put_off_later()
    {
        Add("/a", "/b");
        var first = Claim();
        _queue.GiveBack(first).ShouldBeTrue();
        var ready = Of(first);
        (ready.State, ready.Tries, ready.Worker).ShouldBe((JobState.Ready, 0, null));
        first = Claim();
        (first.Target, first.Attempt, first.Tries).ShouldBe(("/a", 2, 1));
        _queue.PutOff(first, TimeSpan.FromSeconds(1), "put off: in use").ShouldBeTrue();
        var off = Of(first);
        (off.State, off.Tries, off.Worker, off.Said, off.IsLate, off.IsGivenUp).ShouldBe((JobState.Ready, 1, null, "put off: in use", false, false));
        Claim().Target.ShouldBe("/b");
        _queue.Claim(null, "berth", Long).ShouldBeNull();
        // It is waited for, and only where it is asked for.
        _queue.IsAnyLeft(1).ShouldBeTrue();
        _queue.IsAnyLeft(2).ShouldBeFalse();
        Thread.Sleep(1200);
        var again = Claim();
        (again.Target, again.Tries, again.Said).ShouldBe(("/a", 2, null));
    }

    [Fact]
    public void Ten_workers_that_end_with_it_give_a_job_up()
    {
        int number = Add("/a", "/b", "/c");
        var failed = Claim();
        _queue.Finish(failed, JobState.Failed, 3, null, "failed", "").ShouldBeTrue();
        for (int i = 0; i < WorkQueue.MostTries; i++)
        {
            Claim(TimeSpan.FromMilliseconds(1)).Target.ShouldBe("/b");
            Thread.Sleep(20);
        }
        var ended = _queue.Jobs(number)[1];
        (ended.IsGivenUp, ended.Tries).ShouldBe((true, WorkQueue.MostTries));
        Claim().Target.ShouldBe("/c");
        _queue.Batches()[0].Jobs.OrderBy(j => j.Key).ShouldBe([KeyValuePair.Create(JobState.Running, 1), KeyValuePair.Create(JobState.Failed, 2)]);
        _queue.Retry(number, ["/c", "/nothing"]).ShouldBe(0);
        _queue.Retry(number, ["/b", "/c"]).ShouldBe(1);
        var ready = _queue.Jobs(number)[1];
        (ready.State, ready.Tries, ready.IsGivenUp).ShouldBe((JobState.Ready, 0, false));
        _queue.Retry(number + 1, []).ShouldBe(0);
        _queue.Retry(number, []).ShouldBe(1);
        Claim().Target.ShouldBe("/a");
        Claim().Target.ShouldBe("/b");
    }

    [Fact]
    public void A_server_that_does_not_answer_in_time_counts_as_lost()
    {
        Add("/a");
        using var patient = WorkQueue.Open(Address, patience: TimeSpan.FromSeconds(5));
        string backend = TestServer.Shared.Sql(
            $"SELECT pid FROM pg_stat_activity WHERE application_name='moorfield' AND query LIKE '%{TestServer.Schema(_folder.Path)}%.store%'");
        Tool.Run("kill", "-STOP", backend);
        try
        {
            var lost = Should.Throw<MoorfieldException>(() => patient.Batches());
            WorkQueue.IsLost(lost).ShouldBeTrue();
            lost.Message.ShouldContain("is lost: it did not answer for 5 s. ");
        }
        finally
        {
            Tool.Run("kill", "-CONT", backend);
        }
        WorkQueue.IsLost(Should.Throw<MoorfieldException>(() => patient.Batches())).ShouldBeTrue();
        WorkQueue.IsLost(Should.Throw<MoorfieldException>(() => WorkQueue.Open(TestServer.Shared.Address("nothing")))).ShouldBeFalse();
        Should.Throw<MoorfieldException>(() => WorkQueue.Open(_folder["pcs.fleet"])).Kind.ShouldBe(ErrorKind.InvalidUsage);
        _queue.Batches().Length.ShouldBe(1);
    }

    public void Dispose()
    {
        _queue.Dispose();
        _folder.Dispose();
    }
}
