using System.Data.Common;

namespace Vembar.Station.Database;

/// <summary>Statements on one connection, within one transaction where there is one.</summary>
public sealed class DbWork(DbConnection connection, DbTransaction? transaction, CancellationToken cancellation)
{
#pragma warning disable CA2100 // statements are ours; what comes from outside are parameters
    private DbCommand Command(string sql, (string Name, object? Value)[] parameters)
    {
        var command = connection.CreateCommand();
        command.Transaction = transaction;
        command.CommandText = sql;
        foreach (var (name, value) in parameters)
        {
            var parameter = command.CreateParameter();
            parameter.ParameterName = name;
            parameter.Value = value ?? DBNull.Value;
            if (value is null)
                parameter.DbType = System.Data.DbType.String;
            command.Parameters.Add(parameter);
        }
        return command;
    }
#pragma warning restore CA2100

    /// <summary>Does a statement.</summary>
    /// <returns>How many rows it concerned.</returns>
    public async Task<int> ExecuteAsync(string sql, params (string Name, object? Value)[] parameters)
    {
        using var command = Command(sql, parameters);
        return await command.ExecuteNonQueryAsync(cancellation).ConfigureAwait(false);
    }

    /// <summary>Reads rows.</summary>
    public async Task<List<T>> QueryAsync<T>(string sql, Func<DbDataReader, T> read, params (string Name, object? Value)[] parameters)
    {
        using var command = Command(sql, parameters);
        var reader = await command.ExecuteReaderAsync(cancellation).ConfigureAwait(false);
        await using (reader.ConfigureAwait(false))
        {
            var rows = new List<T>();
            while (await reader.ReadAsync(cancellation).ConfigureAwait(false))
                rows.Add(read(reader));
            return rows;
        }
    }
}
