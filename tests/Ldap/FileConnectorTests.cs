using System.Text;
using Oikonom.Core.Fulfilment;
using Oikonom.Core.Planning;
using Oikonom.Core.Rulebook;
using Oikonom.Targets.Files;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Ldap.Tests;

/// <summary>A target that takes over a file: what is in it, when it counts, and what is done when the other side spoils it.</summary>
public sealed class FileConnectorTests : IDisposable
{
    private static readonly Reason Why = new("everyone", "", "");
    private readonly ScratchFolder _folder = new();
    private readonly Clock _clock = new();

    private sealed class Clock : TimeProvider
    {
        public DateTimeOffset Now { get; set; } = new(2026, 11, 25, 12, 0, 0, TimeSpan.Zero);

        public override DateTimeOffset GetUtcNow() => Now;
    }

    public void Dispose() => _folder.Dispose();

    private string At(string name) => Path.Combine(_folder.At("files"), "visitors", name);

    private string Text => File.ReadAllText(At("accounts.csv"), Encoding.UTF8).ReplaceLineEndings("\n");

    private FileConnector Connector(string more = "")
    {
        var reading = RulebookReader.Read([
            new("rulebook.yaml", "name: small\nsites:\n  harbour: { zone: Europe/Lisbon }\n"),
            new(
                "targets/visitors.yaml",
                "name: visitors\ntitle: Visitor system\nkind: file\nfolder: visitors\nmatch: [number]\n"
                    + $"entitlements:\n  till: {{ title: Till, value: TILL, owner: E9 }}\n  gate: {{ title: Gate, value: GATE, owner: E9 }}\n{more}"
            ),
            new("workflows/staff.yaml", "name: staff\nfor: [joiner, mover, leaver]\nrelease: automatic\n"),
        ]);
        var rulebook = reading.Rulebook ?? throw new InvalidOperationException(string.Join("\n", reading.Findings));
        return new(rulebook.Targets["visitors"], _folder.At("files"), _clock);
    }

    private static Dictionary<string, IReadOnlyList<string>> Values(params (string Name, string[] Values)[] values) =>
        values.ToDictionary(v => v.Name, v => (IReadOnlyList<string>)v.Values);

    private static AccountGoal Goal(string name, string number, bool? enabled = false, string? id = null) =>
        new(
            id,
            id is null ? [("number", number)] : [],
            name,
            "",
            Values(("name", [name]), ("number", [number]), ("full", ["Quill, \"Tor\""]), ("tags", ["a;b", "c\\d"])),
            enabled,
            true
        );

    private static GrantGoal Grant(string id, Entitlement entitlement, bool held) =>
        new(id, entitlement, held, new("s", "r", "p", "Tor Quill", "harbour"));

    private static Entitlement Of(string name) =>
        new(name, name, new EntitlementMeans.Value("entitlements", name.ToUpperInvariant()), "E9", new("", 0, 0));

    private static AccountState State(string name, Dictionary<string, IReadOnlyList<string>> values, Presence presence = Presence.Asleep) =>
        new("visitors", name, "", values, presence, Why);

    [Fact]
    public async Task An_account_is_a_row_that_is_made_once_changed_and_never_dropped()
    {
        var connector = Connector();
        var made = await connector.EnsureAccountAsync(Goal("tor.quill", "E1"), default);
        Assert.True(made is { Created: true, Changed: true });
        // The same once more: an attempt whose outcome was lost has no second effect.
        var again = await connector.EnsureAccountAsync(Goal("tor.quill", "E1"), default);
        Assert.Equal((made.ImmutableId, false, false), (again.ImmutableId, again.Created, again.Changed));
        Assert.IsType<PortResult.Reached>(await connector.EnsureGrantAsync(Grant(made.ImmutableId, Of("till"), true), default));
        Assert.IsType<PortResult.Reached>(await connector.EnsureGrantAsync(Grant(made.ImmutableId, Of("gate"), true), default));
        Assert.Equal(
            "id,name,enabled,entitlements,full,number,tags,changed\n"
                + $"{made.ImmutableId},tor.quill,no,GATE;TILL,\"Quill, \"\"Tor\"\"\",E1,a\\;b;c\\\\d,2026-11-25T12:00:00.0000000Z\n",
            Text
        );
        var read = (await connector.ReadAsync(made.ImmutableId, default))!;
        Assert.Equal(["a;b", "c\\d"], read.Attributes["TAGS"]);
        Assert.Equal(["gate", "till"], read.Entitlements.Order());
        Assert.False(read.Enabled);

        await connector.EnsureAccountAsync(
            new(made.ImmutableId, [], "tor.quill", "", Values(("tags", []), ("full", ["Tor"])), true, false),
            default
        );
        await connector.EnsureGrantAsync(Grant(made.ImmutableId, Of("till"), false), default);
        read = (await connector.ReadAsync(made.ImmutableId, default))!;
        Assert.Equal((true, "Tor", false), (read.Enabled, read.Attributes["full"].Single(), read.Attributes.ContainsKey("tags")));
        Assert.True(
            (
                await connector.VerifyAsync(
                    made.ImmutableId,
                    State("tor.quill", Values(("name", ["tor.quill"]), ("full", ["Tor"])), Presence.Awake),
                    ["gate"],
                    default
                )
            ).Matches
        );
        Assert.Single(await connector.ListAsync(default).ToListAsync());
        Assert.True(await connector.NameIsTakenAsync("TOR.quill", default));
        Assert.False(await connector.NameIsTakenAsync("tor", default));
        Assert.Equal("number", Assert.Single((await connector.FindAsync([("number", "e1")], default)).Found).MatchedBy);
    }

    [Fact]
    public async Task What_another_has_is_neither_taken_nor_lost_without_a_word()
    {
        var connector = Connector();
        var one = await connector.EnsureAccountAsync(Goal("tor.quill", "E1"), default);
        foreach (
            var goal in new[]
            {
                // The name is another's; the number is another's; there is none, and none may be made.
                Goal("tor.quill", "E2"),
                Goal("other", "E1"),
                Goal("free", "E3") with
                {
                    MayCreate = false,
                },
                Goal("gone", "E1", id: "no-such"),
            }
        )
            Assert.True((await Assert.ThrowsAsync<TargetFault>(() => connector.EnsureAccountAsync(goal, default))).NeedsReplan);
        Assert.Single(await connector.ListAsync(default).ToListAsync());

        // Somebody changes the file by hand: it is read again, and told.
        File.WriteAllText(At("accounts.csv"), Text.Replace(",no,", ",yes,", StringComparison.Ordinal));
        var back = await connector.VerifyAsync(one.ImmutableId, State("tor.quill", Values(("number", ["E1"]))), [], default);
        Assert.Equal([new Difference.OtherPresence(true)], back.Differences);
        File.Delete(At("accounts.csv"));
        back = await connector.VerifyAsync(one.ImmutableId, State("tor.quill", []), [], default);
        Assert.Equal([new Difference.Gone(one.ImmutableId)], back.Differences);
    }

    [Theory]
    [InlineData("name,enabled\nx,yes\n", "the column 'id' is missing")]
    [InlineData("id,name,enabled,entitlements,changed\n1,x,maybe,,\n", "line 2: 'maybe' stands in the column 'enabled'")]
    [InlineData("id,name,enabled,entitlements,changed\n1,x,yes,,\n1,y,yes,,\n", "line 3: the id 1 stands there twice")]
    [InlineData("id,name,enabled,entitlements,changed\n1,x,yes\n", "line 2: 3 columns; the header has 5")]
    public async Task A_file_that_cannot_be_understood_is_left_as_it_is_and_told(string text, string part)
    {
        var connector = Connector();
        Directory.CreateDirectory(Path.GetDirectoryName(At("accounts.csv"))!);
        File.WriteAllText(At("accounts.csv"), text);
        var fault = await Assert.ThrowsAsync<TargetFault>(() => connector.EnsureAccountAsync(Goal("tor", "E1"), default));
        Assert.True(fault.Transient);
        Assert.Contains(part, fault.Message, StringComparison.Ordinal);
        Assert.Equal(text, File.ReadAllText(At("accounts.csv")));
        var health = await connector.CheckAsync(false, default);
        Assert.False(health.Reachable);
        Assert.Contains(part, health.Checkpoints.Single(c => !c.Good).Text, StringComparison.Ordinal);
        Assert.Equal(health.Message, health.Checkpoints.Single(c => !c.Good).Text);
        // Once it is put right, it goes on by itself.
        File.Delete(At("accounts.csv"));
        await connector.EnsureAccountAsync(Goal("tor", "E1"), default);
        Assert.True((await connector.CheckAsync(false, default)).Reachable);
    }

    [Fact]
    public async Task A_check_makes_and_hands_over_nothing()
    {
        var connector = Connector("schedule: '0 18 * * *'\nanswers-within: PT4H\n");
        Assert.True((await connector.CheckAsync(true, default)).Reachable);
        Assert.False(Directory.Exists(At("")));
        await connector.EnsureAccountAsync(Goal("tor.quill", "E1"), default);
        var before = Directory.GetFiles(At("")).Select(f => (f, File.GetLastWriteTimeUtc(f))).Order().ToList();
        _clock.Now = _clock.Now.AddDays(1);
        var health = await connector.CheckAsync(true, default);
        Assert.True(health.Reachable);
        Assert.Equal(["Folder", "Accounts", "Answers"], health.Checkpoints.Select(c => c.What));
        Assert.Equal("accounts.csv holds 0.", health.Checkpoints[1].Text);
        Assert.Equal(before, Directory.GetFiles(At("")).Select(f => (f, File.GetLastWriteTimeUtc(f))).Order());
    }

    [Fact]
    public async Task Many_at_once_are_written_together_also_from_several_nodes()
    {
        var nodes = new[] { Connector(), Connector() };
        await Task.WhenAll(
            Enumerable.Range(0, 200).Select(i => Task.Run(() => nodes[i % 2].EnsureAccountAsync(Goal($"p{i}", $"E{i}"), default)))
        );
        foreach (var node in nodes)
            Assert.Equal(200, (await node.ListAsync(default).ToListAsync()).Select(a => a.ImmutableId).Distinct().Count());
        Assert.Equal(["accounts.csv"], Directory.GetFiles(At("")).Select(Path.GetFileName).Where(n => n![0] != '.'));
    }

    [Fact]
    public async Task With_a_schedule_the_other_side_gets_it_when_its_time_has_come()
    {
        var connector = Connector("schedule: '0 18 * * *'\n");
        var made = await connector.EnsureAccountAsync(Goal("tor.quill", "E1"), default);
        Task<ReadBack> VerifyAsync() =>
            connector.VerifyAsync(made.ImmutableId, State("tor.quill", Values(("number", ["E1"]))), [], default);
        Assert.DoesNotContain("tor.quill", Text, StringComparison.Ordinal);
        var waits = await Assert.ThrowsAsync<TargetFault>(VerifyAsync);
        Assert.Equal((true, TimeSpan.FromHours(6)), (waits.IsWaiting, waits.After));
        Assert.Equal(
            "the file of Visitor system is written, which is due at 2026-11-25 18:00 UTC.",
            Assert.IsType<PortResult.NotYet>(waits.Result).What
        );
        _clock.Now = _clock.Now.AddHours(5.9);
        await Assert.ThrowsAsync<TargetFault>(VerifyAsync);
        _clock.Now = _clock.Now.AddHours(0.2);
        Assert.True((await VerifyAsync()).Matches);
        Assert.Contains("tor.quill", Text, StringComparison.Ordinal);
        // What comes after it waits for the next day.
        await connector.EnsureGrantAsync(Grant(made.ImmutableId, Of("till"), true), default);
        waits = await Assert.ThrowsAsync<TargetFault>(() =>
            connector.VerifyAsync(made.ImmutableId, State("tor.quill", []), ["till"], default)
        );
        Assert.Contains("2026-11-26 18:00", waits.Message, StringComparison.Ordinal);
        Assert.DoesNotContain("TILL", Text, StringComparison.Ordinal);
        // A time that passed while nothing was gathered is not made up for.
        _clock.Now = _clock.Now.AddDays(1);
        Assert.True((await connector.VerifyAsync(made.ImmutableId, State("tor.quill", []), ["till"], default)).Matches);
        _clock.Now = _clock.Now.AddDays(2);
        await connector.EnsureGrantAsync(Grant(made.ImmutableId, Of("gate"), true), default);
        waits = await Assert.ThrowsAsync<TargetFault>(() =>
            connector.VerifyAsync(made.ImmutableId, State("tor.quill", []), ["till", "gate"], default)
        );
        Assert.Contains("2026-11-29 18:00", waits.Message, StringComparison.Ordinal);
        Assert.DoesNotContain("GATE", Text, StringComparison.Ordinal);
    }

    [Fact]
    public async Task All_accounts_stand_in_ldif_too_whatever_is_in_them()
    {
        var connector = Connector("format: ldif\nbelow: ou=people,o=gates\nclasses: [person]\n");
        var made = await connector.EnsureAccountAsync(Goal("zoë, \"tor\"", "E1"), default);
        await connector.EnsureAccountAsync(
            new(made.ImmutableId, [], "", "", Values(("note", [$" led{new string('x', 100)}"])), null, false),
            default
        );
        await connector.EnsureGrantAsync(Grant(made.ImmutableId, Of("till"), true), default);
        string Ldif() => File.ReadAllText(At("accounts.ldif"));
        Assert.StartsWith("version: 1\n\ndn:: ", Ldif(), StringComparison.Ordinal);
        Assert.All(Ldif().Split('\n'), line => Assert.InRange(line.Length, 0, 76));
        var unfolded = Ldif().Replace("\n ", "", StringComparison.Ordinal).Split('\n');
        string Of64(string name) =>
            Encoding.UTF8.GetString(
                Convert.FromBase64String(unfolded.Single(l => l.StartsWith(name + ":: ", StringComparison.Ordinal))[(name.Length + 3)..])
            );
        Assert.Equal("name=zoë\\, \\\"tor\\\",ou=people,o=gates", Of64("dn"));
        Assert.Equal($" led{new string('x', 100)}", Of64("note"));
        Assert.Contains("objectClass: person", unfolded);
        Assert.Contains("entitlements: TILL", unfolded);
        Assert.Contains("full: Quill, \"Tor\"", unfolded);
        Assert.Equal(["tags: a;b", "tags: c\\d"], unfolded.Where(l => l.StartsWith("tags", StringComparison.Ordinal)));
        // Whoever takes it away finds it made again.
        File.Delete(At("accounts.ldif"));
        Assert.NotNull(await connector.ReadAsync(made.ImmutableId, default));
        Assert.Contains("entitlements: TILL", Ldif(), StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("csv")]
    [InlineData("ldif")]
    public async Task Each_change_is_told_once_in_order_also_when_it_was_broken_off(string format)
    {
        var connector = Connector($"format: {format}\ncontent: changes\n");
        var made = await connector.EnsureAccountAsync(Goal("tor.quill", "E1"), default);
        _clock.Now = _clock.Now.AddSeconds(1);
        await connector.EnsureAccountAsync(
            new(made.ImmutableId, [], "tor.reef", "", Values(("full", []), ("title", ["Diver"])), true, false),
            default
        );
        _clock.Now = _clock.Now.AddSeconds(1);
        await connector.EnsureGrantAsync(Grant(made.ImmutableId, Of("till"), true), default);
        _clock.Now = _clock.Now.AddSeconds(1);
        await connector.EnsureGrantAsync(Grant(made.ImmutableId, Of("till"), true), default);
        string[] Files() => [.. Directory.GetFiles(_folder.At("files/visitors"), $"changes-*.{format}").Order(StringComparer.Ordinal)];
        var files = Files();
        Assert.Equal(3, files.Length);
        var texts = files.Select(f => File.ReadAllText(f).ReplaceLineEndings("\n")).ToArray();
        if (format == "ldif")
        {
            Assert.Contains("dn: name=tor.quill\nchangetype: add\n", texts[0], StringComparison.Ordinal);
            Assert.Contains(
                "dn: name=tor.quill\nchangetype: modrdn\nnewrdn: name=tor.reef\ndeleteoldrdn: 1\n\ndn: name=tor.reef\nchangetype: modify\n",
                texts[1],
                StringComparison.Ordinal
            );
            foreach (var part in new[] { "replace: enabled\nenabled: yes\n-\n", "replace: title\ntitle: Diver\n-\n", "delete: full\n-\n" })
                Assert.Contains(part, texts[1], StringComparison.Ordinal);
            Assert.DoesNotContain("number", texts[1], StringComparison.Ordinal);
            Assert.Contains("replace: entitlements\nentitlements: TILL\n-\n", texts[2], StringComparison.Ordinal);
        }
        else
            Assert.All(texts, t => Assert.Equal(2, t.TrimEnd().Split('\n').Length));

        // It was written, and what was told was not noted: the same file is written again, and no other.
        File.Delete(At(".told.csv"));
        File.Delete(files[2]);
        await using (var other = Connector($"format: {format}\ncontent: changes\n"))
            Assert.NotNull(await other.ReadAsync(made.ImmutableId, default));
        Assert.Equal(files, Files());
        await using (var again = Connector($"format: {format}\ncontent: changes\n"))
            Assert.NotNull(await again.ReadAsync(made.ImmutableId, default));
        Assert.Equal(files, Files());
    }

    [Theory]
    [InlineData("below: ou=people\n", "belong to 'format: ldif'")]
    [InlineData("format: ldif\nbelow: people\n", "'people' is no distinguished name")]
    [InlineData("format: xml\n", "xml")]
    public void A_form_that_is_none_is_told(string more, string part) =>
        Assert.Contains(part, Assert.Throws<InvalidOperationException>(() => Connector(more)).Message, StringComparison.Ordinal);

    [Fact]
    public async Task An_answer_counts_for_the_change_it_is_about()
    {
        var connector = Connector("answers-within: PT4H\n");
        var made = await connector.EnsureAccountAsync(Goal("tor.quill", "E1"), default);
        var first = Text.TrimEnd('\n').Split(',')[^1];
        Task<ReadBack> VerifyAsync(params string[] held) =>
            connector.VerifyAsync(made.ImmutableId, State("tor.quill", Values(("number", ["E1"]))), held, default);
        void Answer(string changed, string outcome, string message = "") =>
            File.WriteAllText(At("answers.csv"), $"id,changed,outcome,message\n{made.ImmutableId},{changed},{outcome},{message}\n");
        var waits = await Assert.ThrowsAsync<TargetFault>(() => VerifyAsync());
        Assert.Equal((true, "Visitor system has answered about tor.quill."), (waits.IsWaiting, waits.Message));
        Answer(first, "done");
        Assert.True((await VerifyAsync()).Matches);

        // Of a later change the old answer says nothing.
        _clock.Now = _clock.Now.AddMinutes(1);
        await connector.EnsureGrantAsync(Grant(made.ImmutableId, Of("till"), true), default);
        Assert.True((await Assert.ThrowsAsync<TargetFault>(() => VerifyAsync("till"))).IsWaiting);
        Answer(Text.TrimEnd('\n').Split(',')[^1], "refused", "no till of that kind");
        var refused = await Assert.ThrowsAsync<TargetFault>(() => VerifyAsync("till"));
        Assert.Equal(
            (false, false, "Visitor system refuses tor.quill: no till of that kind"),
            (refused.Transient, refused.IsWaiting, refused.Message)
        );
        File.Delete(At("answers.csv"));
        _clock.Now = _clock.Now.AddHours(4);
        Assert.True((await Assert.ThrowsAsync<TargetFault>(() => VerifyAsync("till"))).IsWaiting);
        _clock.Now = _clock.Now.AddSeconds(1);
        var late = await Assert.ThrowsAsync<TargetFault>(() => VerifyAsync("till"));
        Assert.Equal((false, false), (late.Transient, late.IsWaiting));
        Assert.Contains("has not answered about tor.quill since 2026-11-25 12:01 UTC", late.Message, StringComparison.Ordinal);
        Answer(first, "perhaps");
        Assert.Contains(
            "'perhaps' is neither",
            (await Assert.ThrowsAsync<TargetFault>(() => VerifyAsync("till"))).Message,
            StringComparison.Ordinal
        );
    }
}
