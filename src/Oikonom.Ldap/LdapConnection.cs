using System.Collections.Concurrent;
using System.Formats.Asn1;
using System.Net.Security;
using System.Net.Sockets;
using System.Runtime.CompilerServices;
using System.Security.Authentication;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using System.Threading.Channels;

namespace Oikonom.Ldap;

/// <summary>
/// One connection to an LDAPv3 server (RFC 4511). Many operations may be under way at once; each has a true
/// time-out. A time-out or a lost line means that the outcome is unknown: read back.
/// </summary>
public sealed class LdapConnection : IAsyncDisposable
{
    private readonly LdapOptions _options;
    private readonly ConcurrentDictionary<int, Pending> _pending = new();
    private readonly Channel<byte[]> _outgoing = Channel.CreateUnbounded<byte[]>(new() { SingleReader = true });
    private readonly SemaphoreSlim _window;
    private readonly CancellationTokenSource _closing = new();
    private Socket _socket = null!;
    private Stream _stream = null!;
    private Task _reading = Task.CompletedTask;
    private Task _writing = Task.CompletedTask;
    private LdapConnectionException? _failure;
    private int _lastId;

    private LdapConnection(LdapOptions options)
    {
        _options = options;
        _window = new(options.Window);
    }

    /// <summary>False once the line is lost or closed.</summary>
    public bool IsOpen => _failure is null;

    /// <summary>Until when the certificate of the server holds; null on a line without TLS.</summary>
    public DateTimeOffset? CertificateUntil =>
        _stream is SslStream { RemoteCertificate: X509Certificate2 certificate } ? certificate.NotAfter.ToUniversalTime() : null;

    /// <exception cref="LdapConnectionException">Tells whether nobody listens, the certificate is unsound, and so on.</exception>
    public static async Task<LdapConnection> ConnectAsync(LdapOptions options, CancellationToken cancel = default)
    {
        var connection = new LdapConnection(options);
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        limit.CancelAfter(options.ConnectTimeout);
        try
        {
            await connection.OpenAsync(limit.Token).ConfigureAwait(false);
            return connection;
        }
        catch (Exception error)
        {
            await connection.DisposeAsync().ConfigureAwait(false);
            throw error switch
            {
                LdapConnectionException or LdapResultException => error,
                OperationCanceledException when cancel.IsCancellationRequested => error,
                OperationCanceledException => new LdapConnectionException(
                    LdapFailure.TimedOut,
                    $"{options.Host}:{options.Port} did not answer within {options.ConnectTimeout.TotalSeconds:0.#} s.",
                    error
                ),
                SocketException socket => new LdapConnectionException(
                    LdapFailure.Unreachable,
                    $"{options.Host}:{options.Port} cannot be reached: {socket.Message}.",
                    error
                ),
                AuthenticationException or IOException => new LdapConnectionException(
                    LdapFailure.TlsRefused,
                    $"{options.Host}:{options.Port} does not agree on TLS: {error.Message}",
                    error
                ),
                _ => error,
            };
        }
    }

    private async Task OpenAsync(CancellationToken cancel)
    {
        _socket = new(SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
        await _socket.ConnectAsync(_options.Host, _options.Port, cancel).ConfigureAwait(false);
        _stream = new NetworkStream(_socket, ownsSocket: true);
        if (_options.Security == LdapSecurity.StartTls)
            await StartTlsAsync(cancel).ConfigureAwait(false);
        if (_options.Security != LdapSecurity.None)
            _stream = await Tls.SecureAsync(_stream, _options, cancel).ConfigureAwait(false);
        _reading = Task.Run(ReadLoopAsync, CancellationToken.None);
        _writing = Task.Run(WriteLoopAsync, CancellationToken.None);
    }

    /// <summary>StartTLS before anything else is sent, RFC 4511 §4.14; done by hand, since no loop reads yet.</summary>
    private async Task StartTlsAsync(CancellationToken cancel)
    {
        await _stream
            .WriteAsync(Wire.Encode(NextId(), writer => Extended(writer, LdapControls.StartTlsOid, null), []), cancel)
            .ConfigureAwait(false);
        var buffer = new byte[8192];
        var filled = 0;
        while (true)
        {
            var count = await _stream.ReadAsync(buffer.AsMemory(filled), cancel).ConfigureAwait(false);
            if (count == 0)
                throw new LdapConnectionException(LdapFailure.Closed, "The server closed the line during StartTLS.");
            filled += count;
            var length = Wire.FrameLength(buffer.AsSpan(0, filled), buffer.Length - 16);
            if (length == 0)
                continue;
            // Nothing may follow the answer in clear text: what an attacker appends there would be taken as protected.
            if (length != filled)
                throw new LdapConnectionException(LdapFailure.Protocol, "The server sent more than the answer to StartTLS in clear text.");
            if (Wire.Decode(buffer.AsMemory(0, length)).Item is not LdapSearchItem.Done { Result: var result })
                throw new LdapConnectionException(LdapFailure.Protocol, "The answer to StartTLS is no result.");
            if (result.Code != LdapCode.Success)
                throw new LdapConnectionException(
                    LdapFailure.TlsRefused,
                    $"The server refuses StartTLS: {result.Message} ({(int)result.Code})."
                );
            return;
        }
    }

    /// <summary>Simple bind, RFC 4513 §5.1. A name needs a password: an empty one would silently bind as nobody.</summary>
    public async Task BindAsync(string name, string password, CancellationToken cancel = default)
    {
        if (name.Length > 0 && password.Length == 0)
            throw new ArgumentException("A bind with a name and no password is refused (RFC 4513 §5.1.2).", nameof(password));
        Require(
            await CallAsync(
                    writer =>
                    {
                        using var bind = writer.PushSequence(Wire.Application(Op.BindRequest));
                        writer.WriteInteger(3);
                        Wire.Text(writer, name);
                        writer.WriteOctetString(Encoding.UTF8.GetBytes(password), Wire.Context(0));
                    },
                    Op.BindResponse,
                    [],
                    cancel
                )
                .ConfigureAwait(false)
        );
    }

    /// <summary>Everything a search yields, in order, the result last. A result that is no success is not thrown here.</summary>
    public async IAsyncEnumerable<LdapSearchItem> StreamAsync(
        LdapSearch search,
        [EnumeratorCancellation] CancellationToken cancel = default
    )
    {
        var pending = new Pending(Op.SearchDone, Channel.CreateUnbounded<LdapSearchItem>());
        var id = await SendAsync(writer => Search(writer, search), pending, search.Controls, cancel).ConfigureAwait(false);
        var ended = false;
        try
        {
            while (true)
            {
                if (!pending.Items!.Reader.TryRead(out var item))
                    item = await NextAsync(pending, cancel).ConfigureAwait(false);
                ended = item is LdapSearchItem.Done;
                yield return item;
                if (ended)
                    yield break;
            }
        }
        finally
        {
            if (_pending.TryRemove(id, out _))
                _window.Release();
            if (!ended)
                Abandon(id);
        }
    }

    private async Task<LdapSearchItem> NextAsync(Pending pending, CancellationToken cancel)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        limit.CancelAfter(_options.OperationTimeout);
        try
        {
            return await pending.Items!.Reader.ReadAsync(limit.Token).ConfigureAwait(false);
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            throw TimedOut();
        }
        catch (ChannelClosedException)
        {
            throw _failure ?? Closed();
        }
    }

    /// <summary>The entries of a search, all at once.</summary>
    /// <exception cref="LdapResultException">The search did not succeed.</exception>
    public async Task<IReadOnlyList<LdapEntry>> SearchAsync(LdapSearch search, CancellationToken cancel = default)
    {
        var entries = new List<LdapEntry>();
        Require(await CallAsync(writer => Search(writer, search), Op.SearchDone, search.Controls, cancel, entries).ConfigureAwait(false));
        return entries;
    }

    /// <summary>The entries of a search, page by page (RFC 2696).</summary>
    public async IAsyncEnumerable<LdapEntry> PageAsync(
        LdapSearch search,
        int pageSize,
        [EnumeratorCancellation] CancellationToken cancel = default
    )
    {
        byte[] cookie = [];
        do
        {
            var page = search with { Controls = [.. search.Controls, LdapControls.Paging(pageSize, cookie)] };
            cookie = [];
            await foreach (var item in StreamAsync(page, cancel).ConfigureAwait(false))
            {
                if (item is LdapSearchItem.Found found)
                    yield return found.Entry;
                else if (item is LdapSearchItem.Done done)
                {
                    Require(done.Result);
                    if (done.Result.Control(LdapControls.PagingOid) is { } control)
                        cookie = LdapControls.PagingCookie(control);
                }
            }
        } while (cookie.Length > 0);
    }

    /// <summary>One entry by its name; null when there is none.</summary>
    /// <param name="attributes">Those wanted; <c>1.1</c> alone for none, RFC 4511 §4.5.1.8.</param>
    /// <exception cref="LdapConnectionException">The line is gone, or the time is over: it may have happened all the same.</exception>
    public async Task<LdapEntry?> ReadAsync(string dn, IReadOnlyList<string> attributes, CancellationToken cancel = default)
    {
        try
        {
            var found = await SearchAsync(new(dn, LdapScope.Base, LdapFilter.Present("objectClass"), attributes), cancel)
                .ConfigureAwait(false);
            return found.Count > 0 ? found[0] : null;
        }
        catch (LdapResultException error) when (error.Code == LdapCode.NoSuchObject)
        {
            return null;
        }
    }

    /// <summary>Adds an entry, RFC 4511 §4.7.</summary>
    /// <exception cref="LdapResultException">The server refuses, with its code.</exception>
    /// <exception cref="LdapConnectionException">The line is gone, or the time is over: it may have happened all the same.</exception>
    public async Task<LdapResult> AddAsync(
        string dn,
        IEnumerable<LdapAttribute> attributes,
        IReadOnlyList<LdapControl>? controls = null,
        CancellationToken cancel = default
    ) =>
        Require(
            await CallAsync(
                    writer =>
                    {
                        using var add = writer.PushSequence(Wire.Application(Op.AddRequest));
                        Wire.Text(writer, dn);
                        using var list = writer.PushSequence();
                        foreach (var attribute in attributes)
                            Wire.Attribute(writer, attribute);
                    },
                    Op.AddResponse,
                    controls ?? [],
                    cancel
                )
                .ConfigureAwait(false)
        );

    /// <summary>Changes an entry, RFC 4511 §4.6: all of the changes, or none.</summary>
    /// <exception cref="LdapResultException">The server refuses, with its code.</exception>
    /// <exception cref="LdapConnectionException">The line is gone, or the time is over: it may have happened all the same.</exception>
    public async Task<LdapResult> ModifyAsync(
        string dn,
        IEnumerable<LdapModification> changes,
        IReadOnlyList<LdapControl>? controls = null,
        CancellationToken cancel = default
    ) =>
        Require(
            await CallAsync(
                    writer =>
                    {
                        using var modify = writer.PushSequence(Wire.Application(Op.ModifyRequest));
                        Wire.Text(writer, dn);
                        using var list = writer.PushSequence();
                        foreach (var change in changes)
                        {
                            using var one = writer.PushSequence();
                            writer.WriteEnumeratedValue(change.Kind);
                            Wire.Attribute(writer, change.Attribute);
                        }
                    },
                    Op.ModifyResponse,
                    controls ?? [],
                    cancel
                )
                .ConfigureAwait(false)
        );

    /// <summary>Renames, and moves when <paramref name="newParent"/> is given (RFC 4511 §4.9).</summary>
    public async Task<LdapResult> ModifyDnAsync(
        string dn,
        string newRdn,
        bool deleteOldRdn,
        string? newParent = null,
        IReadOnlyList<LdapControl>? controls = null,
        CancellationToken cancel = default
    ) =>
        Require(
            await CallAsync(
                    writer =>
                    {
                        using var modify = writer.PushSequence(Wire.Application(Op.ModifyDnRequest));
                        Wire.Text(writer, dn);
                        Wire.Text(writer, newRdn);
                        writer.WriteBoolean(deleteOldRdn);
                        if (newParent is not null)
                            writer.WriteOctetString(Encoding.UTF8.GetBytes(newParent), Wire.Context(0));
                    },
                    Op.ModifyDnResponse,
                    controls ?? [],
                    cancel
                )
                .ConfigureAwait(false)
        );

    /// <summary>Deletes an entry that has nothing below it, RFC 4511 §4.8.</summary>
    /// <exception cref="LdapResultException">The server refuses, with its code.</exception>
    /// <exception cref="LdapConnectionException">The line is gone, or the time is over: it may have happened all the same.</exception>
    public async Task<LdapResult> DeleteAsync(string dn, IReadOnlyList<LdapControl>? controls = null, CancellationToken cancel = default) =>
        Require(
            await CallAsync(
                    writer => writer.WriteOctetString(Encoding.UTF8.GetBytes(dn), Wire.Application(Op.DeleteRequest, constructed: false)),
                    Op.DeleteResponse,
                    controls ?? [],
                    cancel
                )
                .ConfigureAwait(false)
        );

    /// <summary>True when an attribute of an entry has a value, RFC 4511 §4.10, by the rules of the server.</summary>
    /// <exception cref="LdapResultException">The server refuses, with its code.</exception>
    /// <exception cref="LdapConnectionException">The line is gone, or the time is over: it may have happened all the same.</exception>
    public async Task<bool> CompareAsync(string dn, string attribute, string value, CancellationToken cancel = default)
    {
        var result = await CallAsync(
                writer =>
                {
                    using var compare = writer.PushSequence(Wire.Application(Op.CompareRequest));
                    Wire.Text(writer, dn);
                    using var assertion = writer.PushSequence();
                    Wire.Text(writer, attribute);
                    Wire.Text(writer, value);
                },
                Op.CompareResponse,
                [],
                cancel
            )
            .ConfigureAwait(false);
        return result.Code switch
        {
            LdapCode.CompareTrue => true,
            LdapCode.CompareFalse => false,
            _ => throw new LdapResultException(result),
        };
    }

    /// <summary>An extended operation, RFC 4511 §4.12.</summary>
    /// <exception cref="LdapResultException">The server refuses, with its code.</exception>
    /// <exception cref="LdapConnectionException">The line is gone, or the time is over: it may have happened all the same.</exception>
    public async Task<LdapResult> ExtendedAsync(string oid, byte[]? value, CancellationToken cancel = default) =>
        Require(await CallAsync(writer => Extended(writer, oid, value), Op.ExtendedResponse, [], cancel).ConfigureAwait(false));

    /// <summary>Password modify, RFC 3062. Returns the password that the server made up when none was given.</summary>
    public async Task<string?> PasswordModifyAsync(
        string? user,
        string? oldPassword,
        string? newPassword,
        CancellationToken cancel = default
    ) =>
        LdapControls.GeneratedPassword(
            (
                await ExtendedAsync(LdapControls.PasswordModifyOid, LdapControls.PasswordModify(user, oldPassword, newPassword), cancel)
                    .ConfigureAwait(false)
            ).ResponseValue
        );

    /// <summary>The identity the server knows us by, RFC 4532; "" when anonymous.</summary>
    public async Task<string> WhoAmIAsync(CancellationToken cancel = default) =>
        Encoding.UTF8.GetString((await ExtendedAsync(LdapControls.WhoAmIOid, null, cancel).ConfigureAwait(false)).ResponseValue ?? []);

    private static void Extended(AsnWriter writer, string oid, byte[]? value)
    {
        using var extended = writer.PushSequence(Wire.Application(Op.ExtendedRequest));
        writer.WriteOctetString(Encoding.UTF8.GetBytes(oid), Wire.Context(0));
        if (value is not null)
            writer.WriteOctetString(value, Wire.Context(1));
    }

    private static void Search(AsnWriter writer, LdapSearch search)
    {
        using var sequence = writer.PushSequence(Wire.Application(Op.SearchRequest));
        Wire.Text(writer, search.Base);
        writer.WriteEnumeratedValue(search.Scope);
        writer.WriteEnumeratedValue(Dereference.Never);
        writer.WriteInteger(search.SizeLimit);
        writer.WriteInteger(0);
        writer.WriteBoolean(search.TypesOnly);
        search.Filter.Write(writer);
        using var list = writer.PushSequence();
        foreach (var attribute in search.Attributes)
            Wire.Text(writer, attribute);
    }

    private enum Dereference
    {
        Never = 0,
    }

    private static LdapResult Require(LdapResult result) =>
        result.Code == LdapCode.Success ? result : throw new LdapResultException(result);

    /// <param name="entries">Where the entries of a search go.</param>
    private async Task<LdapResult> CallAsync(
        Action<AsnWriter> operation,
        int answer,
        IReadOnlyList<LdapControl> controls,
        CancellationToken cancel,
        List<LdapEntry>? entries = null
    )
    {
        var pending = new Pending(answer, null) { Entries = entries };
        var id = await SendAsync(operation, pending, controls, cancel).ConfigureAwait(false);
        try
        {
            for (var seen = 0; ; )
            {
                try
                {
                    return await pending.Result.Task.WaitAsync(_options.OperationTimeout, cancel).ConfigureAwait(false);
                }
                catch (TimeoutException) when (entries is not null && entries.Count > seen)
                {
                    // Who goes on telling entries has not fallen silent.
                    seen = entries.Count;
                }
            }
        }
        catch (Exception error) when (error is TimeoutException or OperationCanceledException)
        {
            if (_pending.TryRemove(id, out _))
                _window.Release();
            Abandon(id);
            if (error is TimeoutException)
                throw TimedOut();
            throw;
        }
    }

    private async Task<int> SendAsync(
        Action<AsnWriter> operation,
        Pending pending,
        IReadOnlyList<LdapControl> controls,
        CancellationToken cancel
    )
    {
        if (!await _window.WaitAsync(_options.OperationTimeout, cancel).ConfigureAwait(false))
            throw TimedOut();
        var id = NextId();
        _pending[id] = pending;
        try
        {
            if (_failure is { } failure)
                throw failure;
            _outgoing.Writer.TryWrite(Wire.Encode(id, operation, controls));
            return id;
        }
        catch
        {
            if (_pending.TryRemove(id, out _))
                _window.Release();
            throw;
        }
    }

    private int NextId()
    {
        var id = Interlocked.Increment(ref _lastId) & int.MaxValue;
        return id == 0 ? NextId() : id;
    }

    private void Abandon(int id)
    {
        if (IsOpen)
            _outgoing.Writer.TryWrite(
                Wire.Encode(NextId(), writer => writer.WriteInteger(id, Wire.Application(Op.AbandonRequest, constructed: false)), [])
            );
    }

    private async Task WriteLoopAsync()
    {
        var buffer = new MemoryStream();
        try
        {
            while (await _outgoing.Reader.WaitToReadAsync(_closing.Token).ConfigureAwait(false))
            {
                buffer.SetLength(0);
                while (buffer.Length < 65_536 && _outgoing.Reader.TryRead(out var message))
                    buffer.Write(message);
                await _stream.WriteAsync(buffer.GetBuffer().AsMemory(0, (int)buffer.Length), _closing.Token).ConfigureAwait(false);
            }
        }
        catch (Exception error)
        {
            Fail(error);
        }
    }

    private async Task ReadLoopAsync()
    {
        var buffer = new byte[32_768];
        var (start, filled) = (0, 0);
        try
        {
            while (true)
            {
                int length;
                while ((length = Wire.FrameLength(buffer.AsSpan(start, filled - start), _options.MaxMessage)) > 0)
                {
                    Deliver(Wire.Decode(buffer.AsMemory(start, length)));
                    start += length;
                }
                if (start > 0)
                {
                    buffer.AsSpan(start, filled - start).CopyTo(buffer);
                    (start, filled) = (0, filled - start);
                }
                if (filled == buffer.Length)
                    Array.Resize(ref buffer, buffer.Length * 2);
                var count = await _stream.ReadAsync(buffer.AsMemory(filled), _closing.Token).ConfigureAwait(false);
                if (count == 0)
                    throw Closed();
                filled += count;
            }
        }
        catch (Exception error)
        {
            Fail(error);
        }
    }

    private void Deliver(Answer answer)
    {
        if (answer.MessageId == 0)
        {
            // Unsolicited notification: notice of disconnection, RFC 4511 §4.4.1.
            var why = answer.Item is LdapSearchItem.Done { Result: var notice } ? notice.Message : "";
            throw new LdapConnectionException(LdapFailure.Closed, $"The server ends the connection: {why}");
        }
        if (!_pending.TryGetValue(answer.MessageId, out var pending))
            return;
        if (answer.Item is LdapSearchItem.Done done)
        {
            if (answer.Operation != pending.Answer)
                throw new LdapConnectionException(LdapFailure.Protocol, "The peer answers with another operation than was asked.");
            if (_pending.TryRemove(answer.MessageId, out _))
                _window.Release();
            if (pending.Items is null)
                pending.Result.TrySetResult(done.Result);
        }
        else if (answer.Item is LdapSearchItem.Found found)
            pending.Entries?.Add(found.Entry);
        pending.Items?.Writer.TryWrite(answer.Item);
    }

    private void Fail(Exception error)
    {
        var failure =
            error as LdapConnectionException
            ?? new LdapConnectionException(
                LdapFailure.Closed,
                $"The line to {_options.Host}:{_options.Port} is lost: {error.Message}",
                error
            );
        if (Interlocked.CompareExchange(ref _failure, failure, null) is not null)
            return;
        _closing.Cancel();
        foreach (var id in _pending.Keys)
        {
            if (!_pending.TryRemove(id, out var pending))
                continue;
            _window.Release();
            pending.Result.TrySetException(failure);
            pending.Items?.Writer.TryComplete(failure);
        }
        _socket?.Dispose();
    }

    private LdapConnectionException TimedOut() =>
        new(
            LdapFailure.TimedOut,
            $"{_options.Host}:{_options.Port} did not answer within {_options.OperationTimeout.TotalSeconds:0.#} s; what was "
                + "asked may still happen."
        );

    private LdapConnectionException Closed() => new(LdapFailure.Closed, $"{_options.Host}:{_options.Port} closed the connection.");

    /// <summary>Says unbind and closes; whatever is under way fails as closed.</summary>
    public async ValueTask DisposeAsync()
    {
        if (IsOpen && _writing is { IsCompleted: false })
        {
            _outgoing.Writer.TryWrite(
                Wire.Encode(NextId(), writer => writer.WriteNull(Wire.Application(Op.UnbindRequest, constructed: false)), [])
            );
            _outgoing.Writer.TryComplete();
            await Task.WhenAny(_writing, Task.Delay(TimeSpan.FromSeconds(1))).ConfigureAwait(false);
        }
        Fail(Closed());
        await Task.WhenAll(_reading, _writing).ConfigureAwait(false);
        if (_stream is not null)
            await _stream.DisposeAsync().ConfigureAwait(false);
        _closing.Dispose();
    }

    private sealed class Pending(int answer, Channel<LdapSearchItem>? items)
    {
        /// <summary>Which answer ends it, by the tag of RFC 4511 section 4.2 and following.</summary>
        public int Answer { get; } = answer;

        /// <summary>Where the entries of a search are gathered whose caller wants them all at once; null for other operations.</summary>
        public List<LdapEntry>? Entries { get; init; }

        /// <summary>Where the entries of a search go whose caller takes them as they come; null for other operations.</summary>
        public Channel<LdapSearchItem>? Items { get; } = items;

        /// <summary>Ends with the result, or with the failure of the line.</summary>
        public TaskCompletionSource<LdapResult> Result { get; } = new(TaskCreationOptions.RunContinuationsAsynchronously);
    }
}
