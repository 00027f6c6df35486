using Oikonom.Targets;
using Xunit;

namespace Oikonom.Ldap.Tests;

/// <summary>How membership changes gather, with a directory that is told when to answer.</summary>
public sealed class GroupBatcherTests
{
    private readonly List<string> _calls = [];
    private readonly SemaphoreSlim _answers = new(0);

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
