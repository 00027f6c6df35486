using System.Net.Http.Json;
using System.Text.Json.Nodes;
using Oikonom.Contracts;
using Oikonom.Ldap;
using Oikonom.Scim;
using Oikonom.Standins.Applications;
using Oikonom.Standins.Directory;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Service.Tests;

/// <summary>
/// Three nodes on one PostgreSQL, a directory and an application. While joiners are carried out, nodes are killed (SIGKILL) and
/// started again, the directory stands still now and then (SIGSTOP), and PostgreSQL is restarted. At the end each person has what was
/// decided, once. <c>make chaos</c> does the same with 2,000 joiners and a kill each second.
/// </summary>
public sealed class ChaosTests
{
    private static readonly int Joiners = int.Parse(
        Environment.GetEnvironmentVariable("OIKONOM_CHAOS") ?? "30",
        System.Globalization.CultureInfo.InvariantCulture
    );

    /// <summary>What happens does not depend on luck; when it does is a matter of the machine.</summary>
    private readonly Random _luck = new(7);

    /// <summary>The joiners are released in so many parts.</summary>
    private const int Thirds = 3;
    private int _kills;

    [Fact]
    public async Task Whatever_is_killed_or_stands_still_everybody_has_what_was_decided_once()
    {
        await using var postgres = await PostgresServer.StartAsync();
        await using var directory = await TestDirectory.StartAsync();
        await using var records = await ApplicationServer.StartAsync(
            NorthmereApplications.Records,
            DirectoryServer.FreePort(),
            "records-secret",
            null
        );
        await using var shop = await ApplicationServer.StartAsync(
            NorthmereApplications.Shop,
            DirectoryServer.FreePort(),
            "shop-secret",
            null
        );
        await using var first = await World.StartAsync(
            directory,
            new()
            {
                OwnProcess = true,
                Mail = false,
                Store = await postgres.NewDatabaseAsync(),
                Applications = new Dictionary<int, ApplicationServer> { [7438] = records, [7439] = shop },
            }
        );
        // Nothing is done by hand, and nothing is held up for being much.
        await TrustApprovalTests.PublishAsync(
            first,
            (path, text) =>
                path switch
                {
                    "templates/mailbox.yaml" => text.Replace("when:", "on-request: yes\nwhen:", StringComparison.Ordinal),
                    "sources/hr.yaml" => text.Replace("joiners: 60", "joiners: 9999", StringComparison.Ordinal),
                    _ => text,
                }
        );
        await using var second = await first.JoinAsync("second");
        await using var third = await first.JoinAsync("third");
        World[] nodes = [first, second, third];

        var rows = Enumerable.Range(0, Joiners).Select(_ => HrRow.New()).ToList();
        var raised = new List<string>();
        // A run names its first 200 requests.
        for (var known = 0; known < Joiners; known += 200)
        {
            first.WriteHr(rows.Take(known + 200));
            raised.AddRange((await first.RunIntakeAsync()).Requests.Select(r => r.Id!));
        }
        Assert.Equal(Joiners, raised.Count);
        foreach (var id in raised)
            await first.ApproveAsync(await first.WaitForAsync(id, "deciding", 60 + (Joiners / 5)));
        using var stop = new CancellationTokenSource();
        var chaos = HarmAsync(nodes, directory, postgres, stop.Token);
        for (var i = 0; i < raised.Count; i++)
        {
            // Each third begins after another kill, however slow the machine is.
            for (var beats = 0; Volatile.Read(ref _kills) < i * Thirds / raised.Count && beats < 600; beats++)
                await Task.Delay(TimeSpan.FromSeconds(0.1), TestContext.Current.CancellationToken);
            await ReleaseAsync(nodes, raised[i]);
            // Few would be done before the second kill.
            await Task.Delay(TimeSpan.FromSeconds(Math.Min(0.3, 9.0 / Joiners)), TestContext.Current.CancellationToken);
        }
        foreach (var id in raised)
            await CompletedAsync(nodes, id, TimeSpan.FromSeconds(120 + Joiners));
        await stop.CancelAsync();
        await chaos;
        Assert.True(_kills >= Math.Min(Thirds - 1, Joiners / 10), $"{_kills} kills");

        await using var ldap = await directory.ConnectAsync();
        foreach (var row in rows)
        {
            var entry = Assert.Single(
                await ldap.SearchAsync(
                    new(DirectoryOptions.People, LdapScope.Subtree, LdapFilter.Equal("employeeNumber", row.Number), "uid", "memberOf")
                )
            );
            Assert.Equal(
                ["all-people", "dive-team", "site-harbour"],
                entry.Texts("memberOf").Select(g => LdapDn.Parse(g)[0][0].Value).Order()
            );
            var keeper = Assert.Single(records.Data.All(ScimSchemas.Users), u => Text(u, "externalId") == row.Number);
            Assert.Equal((entry.Text("uid"), true), (Text(keeper, "userName"), keeper["active"]!.GetValue<bool>()));
            Assert.Equal(["reader"], keeper["roles"]!.AsArray().Select(r => Text(r!.AsObject(), "value")));
        }
        Assert.Equal(Joiners, records.Data.All(ScimSchemas.Users).Count());
        var verified = await first.EventuallyAsync(first.VerifyLedgerAsync, v => v.Unsealed == 0);
        Assert.True(verified.Sound, string.Join("; ", verified.Faults));
    }

    private static string? Text(JsonObject of, string name) => of[name]?.GetValue<string>();

    /// <summary>Kills one node each second or so; now and then the directory stands still, and once the store goes away.</summary>
    private async Task HarmAsync(World[] nodes, TestDirectory directory, PostgresServer postgres, CancellationToken stop)
    {
        for (var beat = 1; !stop.IsCancellationRequested; beat++)
        {
            var node = nodes[_luck.Next(nodes.Length)];
            node.Kill();
            await node.WaitForEndAsync();
            Interlocked.Increment(ref _kills);
            if (beat % 5 == 1)
            {
                await directory.Server.HoldAsync();
                await Task.Delay(TimeSpan.FromSeconds(1.5), CancellationToken.None);
                await directory.Server.GoOnAsync();
            }
            if (beat == 2)
                await postgres.RestartAsync();
            await node.StartServiceAsync(mustBeReady: false);
            await Task.Delay(TimeSpan.FromSeconds(1), CancellationToken.None);
        }
    }

    /// <summary>Whoever gets no answer looks whether it was done, and asks again.</summary>
    private static Task ReleaseAsync(World[] nodes, string id) =>
        UntilAsync(
            nodes,
            id,
            TimeSpan.FromSeconds(60),
            async (node, request) =>
            {
                if (request.Summary.State == "releasing")
                    await node.ReleaseAsync(request);
                return request.Summary.State != "deciding";
            }
        );

    private static Task CompletedAsync(World[] nodes, string id, TimeSpan patience) =>
        UntilAsync(
            nodes,
            id,
            patience,
            (_, request) =>
            {
                Assert.DoesNotContain(request.Steps, s => s.State == "stopped");
                return Task.FromResult(request.Summary.State == "completed" && request.Steps.All(s => s.State == "done"));
            }
        );

    /// <summary>Asks one node after the other for a request until it is so.</summary>
    private static async Task UntilAsync(World[] nodes, string id, TimeSpan patience, Func<World, RequestDetail, Task<bool>> so)
    {
        var (last, seen) = (default(Exception), default(RequestDetail));
        var end = DateTime.UtcNow + patience;
        for (var turn = 0; DateTime.UtcNow < end; turn++)
        {
            var node = nodes[turn % nodes.Length];
            try
            {
                seen = await node.RequestAsync(id);
                if (await so(node, seen))
                    return;
                await Task.Delay(200);
            }
            catch (Exception error) when (error is HttpRequestException or InvalidOperationException or TaskCanceledException)
            {
                // This node is down at the moment, or its store is.
                last = error;
                await Task.Delay(50);
            }
        }
        throw new TimeoutException(
            $"It did not come to that within {patience.TotalSeconds} s; last seen: {seen?.Summary.State}, {seen?.Story.Now} "
                + string.Join(" | ", seen?.Steps.Select(s => $"{s.Text}: {s.State} {s.Attempts} {s.Problem}") ?? []),
            last
        );
    }
}
