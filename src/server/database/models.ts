import {
  type CreationOptional,
  DataTypes,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize'
import type { z } from 'zod'
import { type CopyChoices, CopyChoicesSchema } from '@/core/copy/choices'
import { type JobResult, JobResultSchema } from '@/core/image/views'
import type { JobKind, JobState } from '@/core/job'
import { type CopyProgress, CopyProgressSchema, type CopySummary, CopySummarySchema } from '@/core/copy/progress'
import type { CopyStatus } from '@/core/copy/view'
import { BriefSchema, type Brief } from '@/core/intake/brief'
import { SamplesSchema, type VolumeSamples } from '@/core/proof/samples'
import { type Series, SeriesSchema } from '@/core/series/series'
import { type Accessory, AccessorySchema } from '@/core/things/accessory'
import { type Computer, ComputerSchema } from '@/core/things/computer'
import { type Drive, DriveSchema } from '@/core/things/drive'
import { Refusal } from '../ground/refusals'
import { singleton } from '../ground/singleton'
import { jsonColumn } from './json'
import { isInTransaction } from './transaction-context'
import {
  FitResultSchema,
  HandoverResultSchema,
  IntakeResultSchema,
  ProofResultSchema,
  ReadyResultSchema,
  RouteResultSchema,
  StandingSchema,
  SurveyResultSchema,
  SwapResultSchema,
} from './schemas'

abstract class Row<M extends Model> extends Model<InferAttributes<M>, InferCreationAttributes<M>> {}

export class BenchRow extends Row<BenchRow> {
  declare id: string
  declare name: string
  declare position: number
  /** The one that the pages show. */
  declare active: boolean
  /** Name and address of the shop as the sheet has them; null where nobody has said. */
  declare shop: CreationOptional<string | null>
}

export class ComputerRow extends Row<ComputerRow> {
  declare id: string
  declare benchId: string
  declare data: Computer
}

export class AccessoryRow extends Row<AccessoryRow> {
  declare id: string
  declare benchId: string
  declare data: Accessory
}

export class DriveRow extends Row<DriveRow> {
  declare id: string
  declare benchId: string
  declare data: Drive
}

export class MoveRow extends Row<MoveRow> {
  declare id: string
  declare benchId: string
  declare position: number
  declare brief: Brief
  declare intake: z.infer<typeof IntakeResultSchema> | null
  declare survey: z.infer<typeof SurveyResultSchema> | null
  declare route: z.infer<typeof RouteResultSchema> | null
  declare fit: z.infer<typeof FitResultSchema> | null
  declare ready: z.infer<typeof ReadyResultSchema> | null
  declare swap: z.infer<typeof SwapResultSchema> | null
  declare proof: z.infer<typeof ProofResultSchema> | null
  declare handover: z.infer<typeof HandoverResultSchema> | null
  /** Null while it is being carried out. */
  declare standing: z.infer<typeof StandingSchema> | null
  /** What the rail says of these stations, kept with what they came to; null where they have no result. */
  declare surveyNote: string | null
  declare fitNote: string | null
  declare proofNote: string | null
}

/** One source for a row of computers; each of them is a move that names it. */
export class SeriesRow extends Row<SeriesRow> {
  declare id: string
  declare benchId: string
  declare data: Series
}

export class CopyRow extends Row<CopyRow> {
  declare id: string
  declare moveId: string
  /** Which leg of the move's plan it is, from 0. */
  declare leg: number
  /** The links it goes over, and its throughput by the nominal one of devices and links; null until it is done. */
  declare linkKey: string | null
  declare throughputRatio: number | null
  declare status: CopyStatus
  declare startedAt: number
  declare endedAt: number | null
  /** For a copy that did not end: what happened, in a sentence. */
  declare message: string | null
  declare progress: CopyProgress | null
  declare summary: CopySummary | null
  declare choices: CopyChoices | null
  /** Digests of the old drive's files; null of a copy that did not read it. */
  declare samples: VolumeSamples[] | null
  /** What is on its target can be gone on with. */
  declare resumable: boolean
  /** It failed since its target does not give back what was written. */
  declare verifyFailed: boolean
}

export class JobRow extends Row<JobRow> {
  declare id: string
  declare kind: JobKind
  declare title: string
  declare moveId: string | null
  declare state: JobState
  /** Real time in milliseconds. */
  declare startedAt: number
  declare endedAt: number | null
  declare message: string | null
  declare result: JobResult | null
}

export class LogRow extends Row<LogRow> {
  declare id: number | null
  declare moveId: string
  declare at: number
  declare tone: 'plain' | 'good' | 'bad'
  declare text: string
}

export class ClockRow extends Row<ClockRow> {
  declare id: number
  declare at: number
  declare pace: '1' | '30' | 'max'
}

/** Short texts, of which every move has one that every page asks for. */
const SHORT_KEPT = 2000

/** Things of benches, of which a large one has some thousand. */
const THINGS_KEPT = 4000

const CHANGES = [
  'afterCreate',
  'afterBulkCreate',
  'afterUpdate',
  'afterBulkUpdate',
  'afterUpsert',
  'afterDestroy',
  'afterBulkDestroy',
] as const

/** Options of a change that only stores how far a running copy is, which whoever asks is told from memory. */
export const progressOnly = (id: string) => ({ where: { id }, isProgress: true })

const isProgress = (options: unknown) =>
  typeof options === 'object' && options !== null && 'isProgress' in options && options.isProgress === true

const versions = () => singleton('row-versions', () => ({ moves: 0, copies: 0, things: 0, ofNobody: 0 }))

// Within a transaction is read what nobody else sees yet, so that is kept by a number that nobody else has.
const version = (kind: 'moves' | 'copies' | 'things') => (isInTransaction() ? --versions().ofNobody : versions()[kind])

export const versionsNow = () => ({ ...versions() })

/** Counts once more whatever has changed since then. */
export function touchChanged(since: ReturnType<typeof versionsNow>): void {
  const now = versions()
  for (const kind of ['moves', 'copies', 'things'] as const) if (now[kind] !== since[kind]) now[kind]++
}

/** Another number after every change of any move's row; what was worked out from the rows is kept by it. */
export const movesVersion = () => version('moves')

/** The same for everything that is on benches. */
export const thingsVersion = () => version('things')

/** The same for the rows of copies. */
export const copiesVersion = () => version('copies')

const ASKING = ['beforeFind', 'beforeCount', 'beforeBulkUpdate', 'beforeBulkDestroy'] as const

/** SQLite ends a text at a NUL, so what has one in it is not asked for. Throws Refusal. */
function refuseNul({ where }: { where?: unknown }): void {
  const hasNul = (value: unknown): boolean =>
    typeof value === 'string'
      ? value.includes('\0')
      : typeof value === 'object' && value !== null && Object.values(value).some(hasNul)
  if (hasNul(where)) throw new Refusal('text-malformed')
}

/** Ties the models to a connection. */
export function defineModels(sequelize: Sequelize): void {
  const options = (tableName: string) => ({ sequelize, tableName, modelName: tableName, timestamps: false })
  for (const asking of ASKING) {
    if (!sequelize.hasHook(asking)) sequelize.addHook(asking, refuseNul as never)
  }
  const id = { type: DataTypes.STRING, primaryKey: true }
  const benchId = { type: DataTypes.STRING, allowNull: false }
  BenchRow.init(
    {
      id,
      name: { type: DataTypes.STRING, allowNull: false },
      position: { type: DataTypes.INTEGER, allowNull: false },
      active: { type: DataTypes.BOOLEAN, allowNull: false },
      shop: { type: DataTypes.TEXT, allowNull: true },
    },
    options('benches'),
  )
  ComputerRow.init(
    { id, benchId, data: jsonColumn('data', ComputerSchema, false, THINGS_KEPT) as never },
    options('computers'),
  )
  AccessoryRow.init(
    { id, benchId, data: jsonColumn('data', AccessorySchema, false, THINGS_KEPT) as never },
    options('accessories'),
  )
  DriveRow.init({ id, benchId, data: jsonColumn('data', DriveSchema, false, THINGS_KEPT) as never }, options('drives'))
  for (const model of [ComputerRow, AccessoryRow, DriveRow] as const) {
    for (const hook of CHANGES) (model as typeof DriveRow).addHook(hook, () => void versions().things++)
  }
  MoveRow.init(
    {
      id,
      benchId,
      position: { type: DataTypes.INTEGER, allowNull: false },
      brief: jsonColumn('brief', BriefSchema, false, SHORT_KEPT) as never,
      intake: jsonColumn('intake', IntakeResultSchema) as never,
      survey: jsonColumn('survey', SurveyResultSchema) as never,
      route: jsonColumn('route', RouteResultSchema, true, SHORT_KEPT) as never,
      fit: jsonColumn('fit', FitResultSchema) as never,
      ready: jsonColumn('ready', ReadyResultSchema) as never,
      swap: jsonColumn('swap', SwapResultSchema) as never,
      proof: jsonColumn('proof', ProofResultSchema) as never,
      handover: jsonColumn('handover', HandoverResultSchema, true, SHORT_KEPT) as never,
      standing: jsonColumn('standing', StandingSchema, true, SHORT_KEPT) as never,
      surveyNote: DataTypes.TEXT,
      fitNote: DataTypes.TEXT,
      proofNote: DataTypes.TEXT,
    },
    options('moves'),
  )
  for (const hook of CHANGES) MoveRow.addHook(hook, () => void versions().moves++)
  SeriesRow.init({ id, benchId, data: jsonColumn('data', SeriesSchema, false, SHORT_KEPT) as never }, options('series'))
  for (const hook of CHANGES) SeriesRow.addHook(hook, () => void versions().moves++)
  CopyRow.init(
    {
      id,
      moveId: { type: DataTypes.STRING, allowNull: false },
      leg: { type: DataTypes.INTEGER, allowNull: false },
      linkKey: DataTypes.TEXT,
      throughputRatio: DataTypes.FLOAT,
      status: { type: DataTypes.STRING, allowNull: false },
      startedAt: { type: DataTypes.INTEGER, allowNull: false },
      endedAt: DataTypes.INTEGER,
      message: DataTypes.TEXT,
      progress: jsonColumn('progress', CopyProgressSchema) as never,
      summary: jsonColumn('summary', CopySummarySchema, true, SHORT_KEPT) as never,
      choices: jsonColumn('choices', CopyChoicesSchema, true, SHORT_KEPT) as never,
      samples: jsonColumn('samples', SamplesSchema) as never,
      resumable: { type: DataTypes.BOOLEAN, allowNull: false, defaultValue: false },
      verifyFailed: { type: DataTypes.BOOLEAN, allowNull: false, defaultValue: false },
    },
    options('copies'),
  )
  for (const hook of CHANGES) {
    CopyRow.addHook(hook, (...of: unknown[]) => {
      if (!of.some((option) => isProgress(option))) versions().copies++
    })
  }
  JobRow.init(
    {
      id,
      kind: { type: DataTypes.STRING, allowNull: false },
      title: { type: DataTypes.TEXT, allowNull: false },
      moveId: DataTypes.STRING,
      state: { type: DataTypes.STRING, allowNull: false },
      startedAt: { type: DataTypes.INTEGER, allowNull: false },
      endedAt: DataTypes.INTEGER,
      message: DataTypes.TEXT,
      result: jsonColumn('result', JobResultSchema) as never,
    },
    options('jobs'),
  )
  LogRow.init(
    {
      id: { type: DataTypes.INTEGER, primaryKey: true, autoIncrement: true },
      moveId: { type: DataTypes.STRING, allowNull: false },
      at: { type: DataTypes.INTEGER, allowNull: false },
      tone: { type: DataTypes.STRING, allowNull: false },
      text: { type: DataTypes.TEXT, allowNull: false },
    },
    options('log_entries'),
  )
  ClockRow.init(
    {
      id: { type: DataTypes.INTEGER, primaryKey: true },
      at: { type: DataTypes.INTEGER, allowNull: false },
      pace: { type: DataTypes.STRING, allowNull: false },
    },
    options('clock'),
  )
}
