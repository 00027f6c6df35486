using Oikonom.Targets;
using Xunit;

namespace Oikonom.Ldap.Tests;

/// <summary>How membership changes gather, with a directory that is told when to answer.</summary>
public sealed class GroupBatcherTests
{
    private readonly List<string> _calls = [];
    private readonly SemaphoreSlim _answers = new(0);

    private static CancellationToken Cancel => TestContext.Current.CancellationToken;

    private async Task ModifyAsync(string group, IReadOnlyList<GroupBatcher.Wish> wishes, CancellationToken cancel)
    {
        lock (_calls)
            _calls.Add($"{group}:{string.Join(',', wishes.Select(w => (w.Present ? "+" : "-") + w.Member))}");
        await _answers.WaitAsync(cancel);
        if (wishes.Any(w => w.Member == "bad"))
            throw new LdapResultException(new(LdapCode.ConstraintViolation, "", "no", [], []));
    }

    private async Task WaitForCallsAsync(int count)
    {
        for (var i = 0; i < 500; i++)
        {
            lock (_calls)
                if (_calls.Count >= count)
                    return;
            await Task.Delay(10);
        }
        Assert.Fail($"only {_calls.Count} of {count} calls came");
    }

    [Fact]
    public async Task What_comes_while_one_is_under_way_goes_out_as_one()
    {
        var batcher = new GroupBatcher(ModifyAsync, error => error is LdapResultException);
        var first = batcher.EnsureAsync("g", "a", true, default);
        await WaitForCallsAsync(1);
        var rest = new[] { "b", "c", "d" }.Select(m => batcher.EnsureAsync("g", m, true, default)).ToList();
        var elsewhere = batcher.EnsureAsync("h", "a", true, default);
        await WaitForCallsAsync(2);
        Assert.False(rest[0].IsCompleted);
        _answers.Release(10);
        await Task.WhenAll([first, .. rest, elsewhere]);
        Assert.Equal(["g:+a", "h:+a", "g:+b,+c,+d"], _calls);
    }

    [Fact]
    public async Task While_many_come_a_moment_is_waited_for_more()
    {
        var waited = new List<TimeSpan>();
        var go = new TaskCompletionSource();
        var batcher = new GroupBatcher(
            ModifyAsync,
            error => error is LdapResultException,
            wait =>
            {
                waited.Add(wait);
                return go.Task;
            }
        );
        _answers.Release(10);
        // One alone goes at once, and nothing is waited for after it.
        await batcher.EnsureAsync("g", "a", true, default);
        await batcher.EnsureAsync("g", "b", true, default);
        Assert.Empty(waited);
        while (_answers.CurrentCount > 0)
            await _answers.WaitAsync(Cancel);
        var first = batcher.EnsureAsync("g", "c", true, default);
        await WaitForCallsAsync(3);
        var (second, third) = (batcher.EnsureAsync("g", "d", true, default), batcher.EnsureAsync("g", "e", true, default));
        _answers.Release(10);
        await Task.WhenAll(first, second, third);
        // Several came together: what comes now goes out as one.
        var (fourth, fifth) = (batcher.EnsureAsync("g", "f", true, default), batcher.EnsureAsync("g", "h", true, default));
        go.SetResult();
        await Task.WhenAll(fourth, fifth);
        Assert.Equal(["g:+a", "g:+b", "g:+c", "g:+d,+e", "g:+f,+h"], _calls);
        Assert.All(waited, w => Assert.InRange(w, TimeSpan.Zero, TimeSpan.FromMilliseconds(10)));
        Assert.NotEmpty(waited);
    }

    [Fact]
    public async Task A_member_that_goes_and_comes_is_not_in_one_change_twice()
    {
        var batcher = new GroupBatcher(ModifyAsync, error => error is LdapResultException);
        var first = batcher.EnsureAsync("g", "x", true, default);
        await WaitForCallsAsync(1);
        var all = new[]
        {
            batcher.EnsureAsync("g", "a", true, default),
            batcher.EnsureAsync("g", "a", false, default),
            batcher.EnsureAsync("g", "b", true, default),
        };
        _answers.Release(10);
        await Task.WhenAll([first, .. all]);
        Assert.Equal(["g:+x", "g:+a", "g:-a,+b"], _calls);
    }

    [Fact]
    public async Task One_that_is_refused_is_found_and_the_others_succeed()
    {
        var batcher = new GroupBatcher(ModifyAsync, error => error is LdapResultException);
        var first = batcher.EnsureAsync("g", "x", true, default);
        await WaitForCallsAsync(1);
        var (good, bad, other) = (
            batcher.EnsureAsync("g", "a", true, default),
            batcher.EnsureAsync("g", "bad", true, default),
            batcher.EnsureAsync("g", "b", true, default)
        );
        _answers.Release(20);
        await Task.WhenAll(first, good, other);
        Assert.Equal(LdapCode.ConstraintViolation, (await Assert.ThrowsAsync<LdapResultException>(() => bad)).Code);
        Assert.Equal(["g:+x", "g:+a,+bad,+b", "g:+a", "g:+bad", "g:+b"], _calls);
    }

    [Fact]
    public async Task Who_stops_waiting_stops_nobody_else()
    {
        var batcher = new GroupBatcher(ModifyAsync, error => error is LdapResultException);
        using var cancel = new CancellationTokenSource();
        var impatient = batcher.EnsureAsync("g", "a", true, cancel.Token);
        var patient = batcher.EnsureAsync("g", "b", true, default);
        await WaitForCallsAsync(1);
        await cancel.CancelAsync();
        await Assert.ThrowsAnyAsync<OperationCanceledException>(() => impatient);
        _answers.Release(10);
        await patient;
    }
}
