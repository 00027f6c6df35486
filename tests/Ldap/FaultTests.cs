using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using CsCheck;
using Oikonom.Standins.Directory;
using Oikonom.Testing;
using Xunit;

namespace Oikonom.Ldap.Tests;

/// <summary>Servers that are away, hang, cut the line, lie about who they are, or talk nonsense.</summary>
public sealed class FaultTests(DirectoryFixture fixture)
{
    private readonly TestDirectory _directory = fixture.Directory;
    private static readonly TimeSpan Short = TimeSpan.FromMilliseconds(400);

    /// <summary>How long a silence may last where the server goes on telling: long against what a busy machine adds to each wait.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(2);

    private static async Task<LdapConnectionException> FailAsync(Func<Task> work) =>
        await Assert.ThrowsAsync<LdapConnectionException>(work);

    [Fact]
    public async Task Nobody_there() =>
        Assert.Equal(
            LdapFailure.Unreachable,
            (await FailAsync(() => LdapConnection.ConnectAsync(_directory.Options with { Port = DirectoryServer.FreePort() }))).Failure
        );

    [Fact]
    public async Task An_untrusted_certificate_is_told_apart()
    {
        var other = new System.Security.Cryptography.X509Certificates.X509Certificate2Collection();
        other.ImportFromPem(Certificates.Make().AuthorityPem);
        var fault = await FailAsync(() => LdapConnection.ConnectAsync(_directory.Options with { Authorities = other }));
        Assert.Equal(LdapFailure.CertificateUntrusted, fault.Failure);
        Assert.Contains("signed by CN=Northmere test authority", fault.Message, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_certificate_for_another_host_and_an_expired_one_are_told_apart()
    {
        await using var elsewhere = await TestDirectory.StartAsync(certificates: Certificates.Make("elsewhere.northmere.example"));
        Assert.Equal(LdapFailure.WrongHost, (await FailAsync(() => elsewhere.ConnectAsync())).Failure);
        await using var expired = await TestDirectory.StartAsync(
            certificates: Certificates.Make(notAfter: DateTimeOffset.UtcNow.AddHours(-1))
        );
        var fault = await FailAsync(() => expired.ConnectAsync());
        Assert.Equal(LdapFailure.CertificateUntrusted, fault.Failure);
        Assert.Contains("expired", fault.Message, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_stopped_server_times_out_and_the_line_is_usable_after()
    {
        await using var own = await TestDirectory.StartAsync();
        await using var ldap = await own.ConnectAsync(own.Options with { OperationTimeout = TimeSpan.FromSeconds(2) });
        await own.Server.HoldAsync();
        var watch = Stopwatch.StartNew();
        var fault = await FailAsync(() => ldap.ReadAsync(DirectoryOptions.People, ["1.1"]));
        Assert.Equal(LdapFailure.TimedOut, fault.Failure);
        Assert.Contains("may still happen", fault.Message, StringComparison.Ordinal);
        Assert.True(watch.Elapsed < TimeSpan.FromSeconds(10));
        Assert.Equal(
            LdapFailure.TimedOut,
            (await FailAsync(async () => await LdapConnection.ConnectAsync(own.Options with { ConnectTimeout = Short }))).Failure
        );
        await own.Server.GoOnAsync();
        Assert.NotNull(await ldap.ReadAsync(DirectoryOptions.People, ["1.1"]));
    }

    [Fact]
    public async Task A_server_that_ends_fails_all_that_waits()
    {
        var own = await TestDirectory.StartAsync();
        await using var ldap = await own.ConnectAsync();
        await own.DisposeAsync();
        var failures = await Task.WhenAll(
            Enumerable.Range(0, 50).Select(_ => FailAsync(() => ldap.ReadAsync(DirectoryOptions.People, ["1.1"])))
        );
        Assert.All(failures, f => Assert.Equal(LdapFailure.Closed, f.Failure));
        Assert.False(ldap.IsOpen);
    }

    /// <summary>A server in clear text that does with each message what it is told.</summary>
    private static async Task WithServerAsync(Func<NetworkStream, Task> serve, Func<LdapOptions, Task> use)
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        using var stop = new CancellationTokenSource();
        var serving = Task.Run(
            async () =>
            {
                using var client = await listener.AcceptTcpClientAsync(stop.Token);
                await using var stream = client.GetStream();
                await serve(stream);
            },
            stop.Token
        );
        await use(
            new()
            {
                Host = "127.0.0.1",
                Port = ((IPEndPoint)listener.LocalEndpoint).Port,
                Security = LdapSecurity.None,
                OperationTimeout = Short,
                ConnectTimeout = Short,
            }
        );
        await stop.CancelAsync();
        try
        {
            await serving.WaitAsync(TimeSpan.FromSeconds(5));
        }
        catch (Exception error) when (error is IOException or OperationCanceledException)
        {
            // The client went away in the middle, or never came.
        }
    }

    /// <summary>Takes what comes and says nothing, until the other side goes.</summary>
    private static Task Silent(NetworkStream stream) => stream.CopyToAsync(Stream.Null);

    [Fact]
    public async Task A_silent_server_times_out() =>
        await WithServerAsync(
            Silent,
            async options =>
            {
                await using var ldap = await LdapConnection.ConnectAsync(options);
                Assert.Equal(LdapFailure.TimedOut, (await FailAsync(() => ldap.BindAsync("cn=x", "y"))).Failure);
                Assert.Equal(
                    LdapFailure.TimedOut,
                    (await FailAsync(() => ldap.SearchAsync(new("", LdapScope.Base, LdapFilter.Present("objectClass"))))).Failure
                );
            }
        );

    /// <summary>A whole search takes as long as it goes on telling entries, and no longer.</summary>
    [Theory]
    [InlineData(6, true)]
    [InlineData(2, false)]
    public async Task A_search_ends_when_the_server_falls_silent_and_not_while_it_tells(int entries, bool ends) =>
        await WithServerAsync(
            async stream =>
            {
                await stream.ReadExactlyAsync(new byte[10]);
                for (var i = 0; i < entries; i++)
                {
                    await stream.WriteAsync(Convert.FromHexString("300d020101640804" + "04636e3d613000"));
                    await Task.Delay(Patience / 4);
                }
                if (ends)
                    await stream.WriteAsync(Convert.FromHexString("300c02010165070a010004000400"));
                await Silent(stream);
            },
            async options =>
            {
                await using var ldap = await LdapConnection.ConnectAsync(options with { OperationTimeout = Patience });
                var search = ldap.SearchAsync(new("", LdapScope.Base, LdapFilter.Present("objectClass")));
                if (ends)
                    Assert.Equal(entries, (await search).Count(e => e.Dn == "cn=a"));
                else
                    Assert.Equal(LdapFailure.TimedOut, (await FailAsync(() => search)).Failure);
                Assert.True(ldap.IsOpen);
            }
        );

    [Fact]
    public async Task A_cancelled_call_ends_at_once() =>
        await WithServerAsync(
            Silent,
            async options =>
            {
                await using var ldap = await LdapConnection.ConnectAsync(options with { OperationTimeout = TimeSpan.FromMinutes(5) });
                using var cancel = new CancellationTokenSource();
                var call = ldap.DeleteAsync("cn=x", null, cancel.Token);
                Assert.False(call.IsCompleted);
                var watch = Stopwatch.StartNew();
                await cancel.CancelAsync();
                await Assert.ThrowsAnyAsync<OperationCanceledException>(() => call);
                Assert.InRange(watch.Elapsed, TimeSpan.Zero, TimeSpan.FromSeconds(2));
                Assert.True(ldap.IsOpen);
            }
        );

    [Theory]
    [InlineData("48656c6c6f2c20776f726c6421", LdapFailure.Protocol)] // text
    [InlineData("3005020101", LdapFailure.Closed)] // cut inside
    [InlineData("30840fffffff", LdapFailure.Protocol)] // larger than the limit
    [InlineData("3080", LdapFailure.Protocol)] // indefinite length
    [InlineData("300c02010161070400040004000400", LdapFailure.Protocol)] // no result code
    [InlineData("300c020101650a0a01000400", LdapFailure.Closed)] // answer of another operation, cut
    public async Task Garbage_or_a_cut_line_is_an_error_and_never_a_hang(string hex, LdapFailure failure) =>
        await WithServerAsync(
            async stream =>
            {
                await stream.ReadExactlyAsync(new byte[10]);
                await stream.WriteAsync(Convert.FromHexString(hex));
                stream.Socket.Shutdown(SocketShutdown.Send);
                await Silent(stream);
            },
            async options =>
            {
                // A call that only ends because its time is over is a hang.
                await using var ldap = await LdapConnection.ConnectAsync(options with { OperationTimeout = TimeSpan.FromMinutes(5) });
                var bind = FailAsync(() => ldap.BindAsync("cn=x", "y"));
                Assert.Equal(failure, (await bind.WaitAsync(TimeSpan.FromSeconds(10))).Failure);
                Assert.False(ldap.IsOpen);
            }
        );

    [Fact]
    public async Task What_follows_the_answer_to_StartTls_in_clear_text_is_refused() =>
        await WithServerAsync(
            async stream =>
            {
                await stream.ReadExactlyAsync(new byte[10]);
                await stream.WriteAsync(Convert.FromHexString("300c02010178070a010004000400" + "300c02010261070a010004000400"));
                await Silent(stream);
            },
            async options =>
            {
                var fault = await FailAsync(() =>
                    LdapConnection.ConnectAsync(options with { Security = LdapSecurity.StartTls, ConnectTimeout = TimeSpan.FromMinutes(5) })
                );
                Assert.Equal(LdapFailure.Protocol, fault.Failure);
                Assert.Contains("more than the answer", fault.Message, StringComparison.Ordinal);
            }
        );

    [Fact]
    public async Task A_refused_StartTls_does_not_go_on_in_clear_text() =>
        await WithServerAsync(
            async stream =>
            {
                await stream.ReadExactlyAsync(new byte[10]);
                await stream.WriteAsync(Convert.FromHexString("300c02010178070a013404000400"));
                await Silent(stream);
            },
            async options =>
                Assert.Equal(
                    LdapFailure.TlsRefused,
                    (
                        await FailAsync(() =>
                            LdapConnection.ConnectAsync(
                                options with
                                {
                                    Security = LdapSecurity.StartTls,
                                    ConnectTimeout = TimeSpan.FromSeconds(5),
                                }
                            )
                        )
                    ).Failure
                )
        );

    [Fact]
    public async Task A_notice_of_disconnection_ends_the_connection_with_its_words() =>
        await WithServerAsync(
            async stream =>
            {
                await stream.ReadExactlyAsync(new byte[10]);
                await stream.WriteAsync(Convert.FromHexString("300e02010078090a01340400040262796500")[..16]);
                await Silent(stream);
            },
            async options =>
            {
                await using var ldap = await LdapConnection.ConnectAsync(options with { OperationTimeout = TimeSpan.FromSeconds(5) });
                var fault = await FailAsync(() => ldap.BindAsync("cn=x", "y"));
                Assert.Equal(LdapFailure.Closed, fault.Failure);
                Assert.Contains("by", fault.Message, StringComparison.Ordinal);
            }
        );

    [Fact]
    public void Every_byte_string_is_a_message_or_an_error()
    {
        var seeds = new[]
        {
            "300c02010161070a010004000400",
            "3023020101641e0404636e3d783016301404026f75310e040561626364650405666768696a",
            "300f02010273 0a04086c6461703a2f2f78".Replace(" ", "", StringComparison.Ordinal),
            "3016020103790e8005312e322e33810561626364 65".Replace(" ", "", StringComparison.Ordinal),
            "302a02010165070a010004000400a01c301a0416312e322e3834302e3131333535362e312e342e333139 0400".Replace(
                " ",
                "",
                StringComparison.Ordinal
            ),
        }
            .Select(Convert.FromHexString)
            .ToArray();
        var mutated = Gen.Select(Gen.Int[0, seeds.Length - 1], Gen.Int[0, 60].Array[0, 8], Gen.Byte.Array[8])
            .Select(
                (seed, places, bytes) =>
                {
                    var copy = seeds[seed].ToArray();
                    for (var i = 0; i < places.Length; i++)
                        copy[places[i] % copy.Length] = bytes[i];
                    return copy;
                }
            );
        mutated.Sample(Decode, iter: 200_000);
        Gen.Byte.Array[0, 80].Sample(Decode, iter: 100_000);

        static void Decode(byte[] bytes)
        {
            try
            {
                var length = Wire.FrameLength(bytes, 1_000_000);
                if (length > 0)
                    Wire.Decode(bytes.AsMemory(0, length));
                Wire.Decode(bytes);
            }
            catch (LdapConnectionException fault)
            {
                Assert.Equal(LdapFailure.Protocol, fault.Failure);
            }
        }
    }

    [Fact]
    public void Any_text_is_a_filter_or_an_error_and_any_value_survives() =>
        Gen.String.Sample(
            text =>
            {
                try
                {
                    LdapFilter.Parse(text);
                }
                catch (FormatException)
                {
                    // Told.
                }
                if (
                    !text.Contains('\uFFFD', StringComparison.Ordinal)
                    && System.Text.Encoding.UTF8.GetString(System.Text.Encoding.UTF8.GetBytes(text)) == text
                )
                {
                    var filter = LdapFilter.Equal("cn", text);
                    if (text.Length > 0)
                        Assert.Equal(filter.ToString(), LdapFilter.Parse(filter.ToString()).ToString());
                    Assert.Equal(text, LdapDn.Parse(LdapDn.Rdn("cn", text)).Single().Single().Value);
                }
            },
            iter: 20_000
        );
}
