import { clsx } from 'clsx'
import { type Health, healthVerdict } from '@/core/health/health'
import { groupDigits } from '@/core/bytes/size'
import { AsideBlock } from '@/ui/frame/stage'
import { type Fact, Facts } from './facts'

const LOOKS = {
  good: { word: 'Healthy', tone: 'text-weed' },
  watch: { word: 'Worth watching', tone: 'text-ochre-ink' },
  failing: { word: 'Failing', tone: 'text-vermilion' },
  unknown: { word: 'Health not known', tone: 'text-ink-soft' },
} as const

/** The verdict in two words, with a colour of its own. */
export function HealthWord({ health }: { health?: Health }) {
  const { state } = healthVerdict(health)
  return <span className={clsx('font-semibold', LOOKS[state].tone)}>{LOOKS[state].word}</span>
}

/** What a drive reports of its health, the verdict with its reason first. */
export function HealthBlock({ health }: { health?: Health }) {
  const { reason } = healthVerdict(health)
  const count = (name: string, value: number | undefined, bad = false): Fact[] =>
    value === undefined
      ? []
      : [{ name, value: groupDigits(value), mono: true, tone: bad && value > 0 ? ('bad' as const) : undefined }]
  return (
    <AsideBlock title="Health">
      <p className="mb-2">
        <HealthWord health={health} />
        <span className="block text-[13px] text-ink-soft">{reason}</span>
      </p>
      {health && (
        <Facts
          facts={[
            ...count('Hours in use', health.powerOnHours),
            { name: 'Temperature', value: `${health.temperatureCelsius} °C`, mono: true },
            ...count('Sectors replaced', health.reallocatedSectors, true),
            ...count('Sectors waiting', health.pendingSectors, true),
            ...count('Sectors given up', health.uncorrectableSectors, true),
            ...count('Medium errors', health.mediaErrors, true),
            ...(health.percentageUsed === undefined
              ? []
              : [{ name: 'Writes used', value: `${health.percentageUsed} %`, mono: true }]),
            ...(health.availableSpare === undefined
              ? []
              : [{ name: 'Spare blocks', value: `${health.availableSpare} %`, mono: true }]),
          ]}
        />
      )}
    </AsideBlock>
  )
}
