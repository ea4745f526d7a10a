package replay

// How the stages of a replay work together:
//
//	logs → blockReader → decoder → orderer → partitioner → processors, one for each worker
//
// Blocks are read and decoded a batch ahead of those that are decided.

import (
	"cmp"
	"context"
	"errors"
	"runtime"
	"sync"
	"sync/atomic"
)

// processor is the last stage: it takes entries one after the other.
type processor interface {
	process(partition []*entry) error
}

// pipeline takes the lines of logs through its stages. Logs are read in the order of their first
// sign-ons, and entries taken in the order of their times, those of one user one after the other, so
// that the result is the same whatever the number of workers.
type pipeline struct {
	options     Options
	blocks      blockReader
	decoder     *decoder
	orderer     orderer
	partitioner partitioner
	processors  []processor
	taken       int
}

// blocksEach is how many blocks each worker has at a time.
const blocksEach = 4

// runPipeline takes logs through processors of a kind, and gives the processors back.
func runPipeline[P processor](ctx context.Context, logs []Log, options Options, newProcessor func() P) (processors []P, p *pipeline, err error) {
	workers := cmp.Or(options.Workers, runtime.GOMAXPROCS(0))
	p = &pipeline{options: options,
		blocks:      blockReader{logs: ordered(logs), size: cmp.Or(options.BlockSize, blockSize)},
		decoder:     newDecoder(workers),
		orderer:     orderer{window: cmp.Or(options.Window, Late), read: map[string]bool{}},
		partitioner: partitioner{parts: partitionsEach * workers}}
	for range workers {
		processor := newProcessor()
		processors, p.processors = append(processors, processor), append(p.processors, processor)
	}
	return processors, p, p.run(ctx)
}

// decoded are blocks that were read and decoded; none is the end.
type decoded struct {
	blocks []*block
	err    error
}

// run takes all lines of the logs.
func (p *pipeline) run(ctx context.Context) error {
	ahead, stop := make(chan decoded, 1), make(chan struct{})
	var reading sync.WaitGroup
	defer reading.Wait() // the logs are the caller's again
	defer close(stop)
	reading.Go(func() { p.readAhead(ahead, stop) })
	for {
		d := <-ahead
		if err := cmp.Or(d.err, ctx.Err()); err != nil {
			return err
		}
		p.orderer.add(d.blocks)
		last := len(d.blocks) == 0
		if err := p.take(p.orderer.ready(last)); err != nil || last {
			return err
		}
	}
}

// readAhead reads and decodes blocks until the logs end, or reading is stopped.
func (p *pipeline) readAhead(ahead chan<- decoded, stop <-chan struct{}) {
	for {
		blocks, err := p.blocks.read(blocksEach * len(p.processors))
		if err == nil {
			p.decoder.decode(blocks, p.blocks.freeText)
		}
		select {
		case ahead <- decoded{blocks, err}:
		case <-stop:
			return
		}
		if err != nil || len(blocks) == 0 {
			return
		}
	}
}

// take has entries processed, and writes what came of them in their order.
func (p *pipeline) take(ready []queued) error {
	if err := p.process(p.partitioner.split(ready)); err != nil {
		return err
	}
	if p.options.Decisions != nil {
		for _, q := range ready {
			if q.decision == nil {
				continue
			}
			if _, err := p.options.Decisions.Write(append(q.decision, '\n')); err != nil {
				return err
			}
		}
	}
	for _, q := range ready {
		p.blocks.release(q)
	}
	p.taken += len(ready)
	if p.options.Progress != nil {
		p.options.Progress(p.taken)
	}
	p.orderer.forget(len(ready))
	return nil
}

// process has each worker take its own partitions, and then those that are left of the others.
func (p *pipeline) process(partitions [][]*entry) error {
	begun, errs := make([]atomic.Bool, len(partitions)), make([]error, len(partitions))
	eachWorker(len(p.processors), func(w int) {
		for i := range partitions {
			n := (w*partitionsEach + i) % len(partitions)
			if !begun[n].Swap(true) {
				errs[n] = p.processors[w].process(partitions[n])
			}
		}
	})
	return errors.Join(errs...)
}

// eachWorker lets all workers work, and waits for them.
func eachWorker(workers int, work func(worker int)) {
	var wg sync.WaitGroup
	for w := range workers {
		wg.Go(func() { work(w) })
	}
	wg.Wait()
}
