import { AsyncLocalStorage } from 'node:async_hooks'
import { singleton } from '../ground/singleton'

type Context = Map<string, unknown>
const contexts = () => singleton('transaction-contexts', () => new AsyncLocalStorage<Context>())

/** Which transaction a query belongs to is known by where it is called from, in the form that Sequelize asks for. */
export const transactionContext = {
  run<T>(work: (context: Context) => T): T {
    const context: Context = new Map()
    return contexts().run(context, () => work(context))
  },
  get: (key: string) => contexts().getStore()?.get(key),
  set: (key: string, value: unknown) => void contexts().getStore()?.set(key, value),
  bind: <F>(work: F): F => work,
}

/** Whether what is called here belongs to a transaction. */
export const isInTransaction = () => Boolean(transactionContext.get('transaction'))
