import { ScatterChart } from 'echarts/charts'
import { GridComponent, LegendComponent, TooltipComponent } from 'echarts/components'
import { init, use } from 'echarts/core'
import { SVGRenderer } from 'echarts/renderers'

use([ScatterChart, GridComponent, LegendComponent, TooltipComponent, SVGRenderer])

/** A chart in a place. This module is loaded when the first one is drawn. */
export const on = (place: HTMLElement) => init(place, undefined, { renderer: 'svg' })
