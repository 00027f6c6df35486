using System.Security.Cryptography;
using System.Text.Json;
using Oikonom.Proofs;
using Oikonom.Service.Common;

namespace Oikonom.Service.Ledger;

/// <summary>
/// The key heads are signed with (ECDSA over P-256) and the history of such keys. Both are files of the data folder,
/// not of the store: who owns the database alone cannot sign, and cannot say which key is to be believed.
/// </summary>
public sealed class SigningKey : IDisposable
{
    private readonly string _keyFile;
    private readonly string _ringFile;
    private readonly TimeProvider _time;
    private readonly Lock _gate = new();
    private ECDsa _key;
    private IReadOnlyList<LedgerKey> _ring;
    private DateTime _read;

    public SigningKey(ServiceOptions options, TimeProvider time)
    {
        (_keyFile, _ringFile, _time) = (Path.Combine(options.Data, "ledger-key.pem"), Path.Combine(options.Data, "ledger-keys.json"), time);
        if (!File.Exists(_keyFile))
        {
            using var made = ECDsa.Create(ECCurve.NamedCurves.nistP256);
            OwnFile.Write(_keyFile, made.ExportPkcs8PrivateKeyPem());
        }
        _key = ECDsa.Create();
        _key.ImportFromPem(File.ReadAllText(_keyFile));
        if (!File.Exists(_ringFile))
            OwnFile.Write(
                _ringFile,
                JsonSerializer.Serialize<IReadOnlyList<LedgerKey>>([Named(_key, _key, null, 0)], JsonSerializerOptions.Web)
            );
        _ring = ReadRing();
        _read = File.GetLastWriteTimeUtc(_ringFile);
    }

    /// <summary>The keys that are believed, oldest first; the last one signs.</summary>
    public IReadOnlyList<LedgerKey> Ring
    {
        get
        {
            lock (_gate)
            {
                Refresh();
                return _ring;
            }
        }
    }

    /// <summary>Signs a head with the newest key.</summary>
    public SignedHead Sign(long size, byte[] root, long at)
    {
        lock (_gate)
        {
            Refresh();
            return new(
                size,
                Convert.ToHexStringLower(root),
                at,
                Convert.ToBase64String(_key.SignData(SignedHead.Bytes(size, root, at), HashAlgorithmName.SHA256)),
                _ring[^1].Id
            );
        }
    }

    /// <summary>Makes a new key that signs all heads of more than <paramref name="size"/> leaves; the old one names it and is
    /// thrown away.</summary>
    public LedgerKey Rotate(long size)
    {
        lock (_gate)
        {
            Refresh();
            var fresh = ECDsa.Create(ECCurve.NamedCurves.nistP256);
            var named = Named(fresh, _key, _ring[^1].Id, size);
            // The key first: a crash between the two leaves one that the history does not know, and the next start says so.
            OwnFile.Write(_keyFile, fresh.ExportPkcs8PrivateKeyPem());
            OwnFile.Write(_ringFile, JsonSerializer.Serialize<IReadOnlyList<LedgerKey>>([.. _ring, named], JsonSerializerOptions.Web));
            _key.Dispose();
            _key = fresh;
            (_ring, _read) = (ReadRing(), File.GetLastWriteTimeUtc(_ringFile));
            return named;
        }
    }

    /// <summary>Another node over the same folder may have changed the key.</summary>
    private void Refresh()
    {
        var written = File.GetLastWriteTimeUtc(_ringFile);
        if (written == _read)
            return;
        var key = ECDsa.Create();
        key.ImportFromPem(File.ReadAllText(_keyFile));
        _key.Dispose();
        _key = key;
        (_ring, _read) = (ReadRing(), written);
    }

    private IReadOnlyList<LedgerKey> ReadRing()
    {
        IReadOnlyList<LedgerKey> ring;
        try
        {
            ring = JsonSerializer.Deserialize<List<LedgerKey>>(File.ReadAllText(_ringFile), JsonSerializerOptions.Web) ?? [];
        }
        catch (JsonException)
        {
            throw new ArgumentException($"The history of ledger keys, {_ringFile}, cannot be read. Restore it from a back-up.");
        }
        if (LedgerKey.Fault(ring) is { } fault)
            throw new ArgumentException($"{fault} Restore {_ringFile} from a back-up.");
        if (ring[^1].PublicKey != Public(_key))
            throw new ArgumentException(
                $"The key in {_keyFile} is not the last of the history in {_ringFile}. Restore both from a back-up."
            );
        return ring;
    }

    private LedgerKey Named(ECDsa key, ECDsa by, string? byId, long size)
    {
        var (publicKey, at) = (Public(key), _time.Milliseconds());
        var id = LedgerKey.IdOf(publicKey);
        return new(
            id,
            publicKey,
            size,
            at,
            byId ?? id,
            Convert.ToBase64String(by.SignData(LedgerKey.Bytes(publicKey, size, at), HashAlgorithmName.SHA256))
        );
    }

    private static string Public(ECDsa key) => Convert.ToBase64String(key.ExportSubjectPublicKeyInfo());

    public void Dispose() => _key.Dispose();
}

/// <summary>Files that only the service's own user may read; written whole or not at all.</summary>
public static class OwnFile
{
    public static void Write(string path, string text)
    {
        var fresh = path + ".new";
        File.Delete(fresh);
        using (
            var stream = new FileStream(
                fresh,
                new FileStreamOptions
                {
                    Mode = FileMode.CreateNew,
                    Access = FileAccess.Write,
                    UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
                }
            )
        )
        using (var writer = new StreamWriter(stream))
            writer.Write(text);
        File.Move(fresh, path, overwrite: true);
    }
}
